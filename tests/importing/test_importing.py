import datetime
import gzip
import unittest
from pathlib import Path

import numpy as np
import pyarrow
import pyarrow.parquet
from scipy.spatial.transform import Rotation

from tests.support import assert_input_error, new_folder, robot, short_run
from vinecompass import TableFormat, check, compare_tracks, fuse, guess_format, import_run, write_run
from vinecompass.files import validated
from vinecompass.geometry import wrap_angle

LOG = Path(__file__).parents[2] / "examples" / "strangers_log"
SINCE_1970 = 1.79e9


def written(path, names, columns, *, delimiter=",", comma=False, comments="", formats="%.9f"):
    """Write columns as text, in any manner."""
    np.savetxt(
        path, np.column_stack(columns), fmt=formats, delimiter=delimiter, header=delimiter.join(names), comments=""
    )
    text = comments + path.read_text()
    path.write_text(text.replace(".", ",") if comma else text)
    return path


def told_ranges(scale, nothing, no_reading):
    """The ranges of the short run as a scanner with such codes tells them."""
    told = np.rint(short_run().scans.ranges * scale)
    return np.where(np.isposinf(told), nothing, np.where(np.isnan(told), no_reading, told))


class Manners(unittest.TestCase):
    """Each manner of writing gives the run that was written; guessed, or as it is said."""

    def test_units_names_codes_counters_speeds_and_dates(self):
        run, folder = short_run(), new_folder()
        t, turns = run.scans.t, run.wheels.angles / (2.0 * np.pi)
        per_turn = run.robot.wheels.ticks_per_turn
        beams = [f"beam{i}" for i in range(433)]
        scans = [(1e3 * t)[:, None], told_ranges(1000.0, 65533.0, 7.0)]
        written(folder / "scans.csv", ["t_ms", *beams], scans, delimiter=";", comments="# a log\n", formats="%.6f")
        dates = [datetime.datetime.fromtimestamp(s, datetime.UTC).strftime("%Y-%m-%dT%H:%M:%S.%f") for s in run.imu.t]
        rates = np.degrees(run.imu.turn_rate)
        lines = [
            f"{d}\t{w:.9f}\t{x:.9f}\t{y:.9f}"
            for d, w, x, y in zip(
                dates, rates, run.imu.acceleration_x / 9.80665, run.imu.acceleration_y / 9.80665, strict=True
            )
        ]
        (folder / "imu.tsv").write_text("when\tgyro_z_deg\tacc_x [g]\tacc_y [g]\n" + "\n".join(lines))
        written(
            folder / "odometry.txt",
            ["clock", "x_mm", "y_mm", "theta_deg"],
            [run.truth.t, run.truth.poses * [1000.0, 1000.0, 180.0 / np.pi]],
            delimiter=" ",
            comma=True,
        )
        starts = {8: 250.0, 12: 4090.0, 16: 65530.0, 32: 2.0**32 - 9.0}
        for bits, first in starts.items():
            counts = np.mod(first + np.rint(turns * per_turn), 2.0**bits)
            path = written(
                folder / "wheels.csv", ["t", "encoder_l", "encoder_r"], [run.wheels.t, counts], formats="%.6f"
            )
            tables = {"scans": [folder / "scans.csv"], "wheels": [path], "imu": [folder / "imu.tsv"]}
            tables["odometry"] = [folder / "odometry.txt"]
            guesses = {name: guess_format(name, paths, run.robot) for name, paths in tables.items()}
            with self.subTest(bits=bits):
                again = self.imported(tables, guesses)
                self.assertEqual(guesses["wheels"].how.counter_bits, bits)
                rolled = again.wheels.angles - again.wheels.angles[0]
                np.testing.assert_allclose(rolled, run.wheels.angles - run.wheels.angles[0], atol=4.0 / per_turn)
        np.testing.assert_allclose(again.scans.t, t, atol=1e-9)
        np.testing.assert_allclose(again.scans.ranges, run.scans.ranges, atol=0.00051)
        np.testing.assert_allclose(again.imu.turn_rate, run.imu.turn_rate, atol=1e-9)
        np.testing.assert_allclose(again.imu.acceleration_y, run.imu.acceleration_y, atol=1e-7)
        np.testing.assert_allclose(again.imu.t, run.imu.t, atol=1e-6)
        np.testing.assert_allclose(again.odometry.poses, run.truth.poses, atol=1e-6)
        said = guesses["scans"].how
        self.assertEqual((said.nothing, said.no_reading, said.delimiter, said.comment), (65533.0, 7.0, ";", "#"))
        self.assertTrue(any("'gyro_z_deg' says so" in reason for reason in guesses["imu"].reasons))

    def imported(self, tables, guesses):
        columns = {f"{stream}.{key}": name for stream, guess in guesses.items() for key, name in guess.columns.items()}
        formats = {stream: guess.how for stream, guess in guesses.items()}
        return import_run(tables, short_run().robot, formats=formats, columns=columns, start=short_run().start)

    def test_wheel_speeds_and_velocities_are_added_up(self):
        run, folder = short_run(), new_folder()
        write_run(run, folder / "run", tables="csv")
        speeds = np.gradient(run.wheels.angles, run.wheels.t, axis=0)
        velocities = np.gradient(np.unwrap(run.truth.poses[:, 2]), run.truth.t)
        ahead = np.hypot(*np.gradient(run.truth.poses[:, :2], run.truth.t, axis=0).T)
        for unit, factor in (("rpm", 60.0 / (2.0 * np.pi)), ("rad/s", 1.0), ("m/s", run.robot.drive.wheel_radius)):
            names = ["t", "left_speed", "right_speed"]
            wheels = written(folder / "wheels.csv", names, [run.wheels.t, factor * speeds])
            way = written(folder / "way.csv", ["t", "v", "omega"], [run.truth.t, ahead, velocities])
            tables = {"scans": [folder / "run/scans.csv"], "wheels": [wheels], "odometry": [way]}
            given = {"wheels": {"wheels": unit}}
            with self.subTest(unit=unit):
                guesses = {
                    name: guess_format(name, paths, run.robot, given=given.get(name)) for name, paths in tables.items()
                }
                again = self.imported(tables, guesses)
                rolled = again.wheels.angles[-1] - run.wheels.angles[-1] + run.wheels.angles[0]
                self.assertLess(np.abs(rolled).max(), 0.05)
                self.assertLess(
                    compare_tracks(again.odometry.moved_to(run.truth.poses[0]), run.truth).position[-1], 0.1
                )

    def test_rows_that_came_in_bundles_or_out_of_order_or_are_cut_short(self):
        run, folder = short_run(), new_folder()
        imu, wheels, scans = run.imu, run.wheels, run.scans
        arrived = imu.t[np.minimum(np.arange(len(imu.t)) // 5 * 5 + 4, len(imu.t) - 1)]
        rates = [imu.turn_rate, imu.acceleration_x, imu.acceleration_y]
        written(folder / "imu.csv", ["t", "turn_rate", "acceleration_x", "acceleration_y"], [arrived, *rates])
        order = np.arange(len(wheels.t))
        order[5:-1:20], order[6::20] = order[6::20].copy(), order[5:-1:20].copy()
        written(folder / "wheels.csv", ["t", "left", "right"], [wheels.t[order], *wheels.angles[order].T])
        beams = [f"beam{i}" for i in range(433)]
        text = written(folder / "scans.csv", ["t", *beams], [scans.t, scans.ranges]).read_text()
        tables = {name: folder / f"{name}.csv" for name in ("scans", "wheels", "imu")}
        for cut in (text[:-800], text[: text.rindex(",") + 1]):
            tables["scans"].write_text(cut)
            guesses = {name: guess_format(name, [path], run.robot) for name, path in tables.items()}
            self.assertEqual([guesses[name].how.stamps for name in tables], ["each", "shuffled", "bundled"])
            self.assertTrue(guesses["scans"].how.cut)
            again = import_run(tables, run.robot, formats={name: guess.how for name, guess in guesses.items()})
            np.testing.assert_array_equal(again.scans.t, scans.t[:-1])
            np.testing.assert_allclose(again.wheels.t, wheels.t, atol=1e-8)
            np.testing.assert_allclose(again.wheels.angles, wheels.angles, atol=1e-8)
            np.testing.assert_allclose(again.imu.t, imu.t, atol=0.3 / run.robot.imu.rate)
            np.testing.assert_allclose(again.imu.turn_rate, imu.turn_rate, atol=1e-8)
        # Unsaid, what came in bundles of ten is no motion, and what came twice is found.
        written(folder / "imu.csv", ["t", "turn_rate", "acceleration_x", "acceleration_y"], [imu.t, *rates])
        tables["scans"].write_text(text)
        late = wheels.t[np.minimum(np.arange(len(wheels.t)) // 10 * 10 + 9, len(wheels.t) - 1)]
        for apart in (1e-5, 0.0):
            stamps = late + apart * (np.arange(len(late)) % 10)
            written(folder / "wheels.csv", ["t", "left", "right"], [stamps, *wheels.angles.T])
            if apart:
                assert_input_error(self, lambda: import_run(tables, run.robot), "wheels.stamps", "bundled")
            else:
                found = check(import_run(tables, run.robot)).findings[0]
                self.assertEqual((found.severity, found.fault), ("serious", "stamps twice"))
                self.assertIn("wheels.stamps=bundled", found.advice)

    def test_headings_that_count_on_and_the_start_where_the_truth_begins(self):
        run, folder = short_run(), new_folder()
        write_run(run, folder / "run", tables="csv")
        x, y = run.truth.poses[:, :2].T
        # Two full turns more than one would write: in radians they come up to what a small angle in degrees does.
        turned = np.unwrap(run.truth.poses[:, 2]) + 4.0 * np.pi
        for unit, headings in (("rad", turned), ("deg", np.degrees(turned))):
            path = written(folder / "truth.csv", ["t", "x", "y", "heading"], [run.truth.t, x, y, headings])
            guess = guess_format("truth", [path], run.robot)
            tables = {"scans": folder / "run/scans.csv", "truth": path}
            again = import_run(tables, run.robot, formats={"truth": guess.how})
            with self.subTest(unit=unit):
                self.assertEqual(guess.how.angle, unit)
                np.testing.assert_allclose(again.start[:2], run.truth.at([run.scans.t[0]])[0, :2], atol=1e-4)
                off = wrap_angle(again.truth.poses[:, 2] - run.truth.poses[:, 2])
                self.assertLess(np.abs(off).max(), 1e-4)

    def test_one_beam_a_row_with_beams_missing_in_two_packed_files(self):
        run, folder = short_run(), new_folder()
        rng, half = np.random.default_rng(2), len(run.scans) // 2
        lidar = run.robot.scanner
        for stamped in ("scan", "beam"):
            for part, scans in enumerate((range(half), range(half, len(run.scans)))):
                rows = ["t,angle,range"]
                for i in scans:
                    for beam in np.flatnonzero(rng.random(433) > 0.1):
                        t = run.scans.t[i] + (lidar.beam_delays[beam] if stamped == "beam" else 0.0)
                        angle = np.degrees(lidar.beam_angles[beam])
                        rows.append(f"{t:.9f},{angle:.6f},{run.scans.ranges[i, beam]:.6f}")
                with gzip.open(folder / f"{part}.csv.gz", "wt") as file:
                    file.write("\n".join(rows))
            paths = [folder / "0.csv.gz", folder / "1.csv.gz"]
            guess = guess_format("scans", paths, run.robot)
            self.assertEqual((guess.how.rows, guess.how.angle), ("beams", "deg"))
            again = import_run({"scans": paths}, run.robot, formats={"scans": guess.how})
            np.testing.assert_allclose(again.scans.t, run.scans.t, atol=1e-6)
            told = np.isfinite(again.scans.ranges)
            self.assertGreater(told.sum(), 0.85 * np.isfinite(run.scans.ranges).sum())
            np.testing.assert_allclose(again.scans.ranges[told], run.scans.ranges[told], atol=1e-5)
        # The logger loses its power: what was packed by then is there.
        paths[1].write_bytes(paths[1].read_bytes()[:-20000])
        guess = guess_format("scans", paths, run.robot)
        self.assertIn("cut = true: a packed file ends early", guess.reasons)
        torn = import_run({"scans": paths}, run.robot, formats={"scans": guess.how}).scans
        self.assertTrue(half < len(torn) < len(run.scans))
        np.testing.assert_array_equal(torn.ranges[:-1], again.scans.ranges[: len(torn) - 1])

    def test_lists_in_a_cell_stamps_in_nanoseconds_and_quaternions(self):
        run, folder = short_run(), new_folder()
        stamps = np.rint((run.scans.t + SINCE_1970) * 1e9).astype(np.int64)
        words = {"inf": "Infinity", "nan": "None"}
        cells = [[f"{value:.4f}" for value in row] for row in run.scans.ranges]
        texts = ["[" + ", ".join(words.get(word, word) for word in row) + "]" for row in cells]
        lines = [f'{t},-2.1,"[0, 0, 0]","{text}"' for t, text in zip(stamps, texts, strict=True)]
        (folder / "text.csv").write_text("\n".join(["time_ns,min_angle,strengths,ranges", *lines]))
        bare = [f"{t}\t({' '.join(row)})" for t, row in zip(stamps, cells, strict=True)]
        (folder / "bare.tsv").write_text("\n".join(["stamp\tdistances", *bare]))
        millimetres = np.rint(1e3 * np.where(np.isfinite(run.scans.ranges), run.scans.ranges, 65.0)).astype(np.int32)
        whole = pyarrow.table({"t": stamps, "ranges": list(millimetres)})
        pyarrow.parquet.write_table(whole, folder / "whole.parquet")
        # A base that tips as it drives: the heading is that of its x axis, seen from above.
        turns = Rotation.from_euler("ZYX", np.insert(run.truth.poses[:, 2:], [1, 1], [0.05, -0.03], axis=1))
        seconds, rest = np.divmod(np.rint((run.truth.t + SINCE_1970) * 1e9).astype(np.int64), 10**9)
        names = [
            "seq",
            "stamp.sec",
            "stamp.nanosec",
            *(f"orientation.{part}" for part in "xyzw"),
            "position.x",
            "position.y",
        ]
        counted = np.arange(len(run.truth))
        columns = [counted, seconds, rest, turns.as_quat(), run.truth.poses[:, :2]]
        way = written(folder / "way.csv", names, columns, formats="%.12g")
        for scans in ("text.csv", "bare.tsv", "whole.parquet"):
            tables = {"scans": [folder / scans], "odometry": [way]}
            with self.subTest(scans=scans):
                again = self.imported(
                    tables, {name: guess_format(name, paths, robot()) for name, paths in tables.items()}
                )
                np.testing.assert_allclose(again.scans.t - SINCE_1970, run.scans.t, atol=1e-6)
                np.testing.assert_allclose(again.odometry.t - SINCE_1970, run.truth.t, atol=1e-6)
                self.assertLess(np.abs(again.odometry.poses[:, :2] - run.truth.poses[:, :2]).max(), 1e-6)
                ahead = turns.apply([1.0, 0.0, 0.0])
                off = again.odometry.poses[:, 2] - np.arctan2(ahead[:, 1], ahead[:, 0])
                np.testing.assert_allclose(wrap_angle(off), 0.0, atol=1e-6)
                told = np.isfinite(run.scans.ranges)
                np.testing.assert_allclose(again.scans.ranges[told], run.scans.ranges[told], atol=0.00051)
                self.assertFalse(np.any(np.isfinite(again.scans.ranges[~told])))
        # Scans that were cut short, as a logger's first one, are scans without a reading; not if most are.
        for cut, refused in (([0, 7], False), (range(len(lines) // 4), True)):
            short = [",".join(line.split(",")[:200]) + '"' if i in cut else line for i, line in enumerate(lines)]
            (folder / "cut.csv").write_text("\n".join(["t,min_angle,strengths,ranges", *short]))
            tables = {"scans": folder / "cut.csv"}
            formats = {"scans": TableFormat(time="ns", leave_out=["min_angle", "strengths"])}
            with self.subTest(cut=cut):
                if refused:
                    words = ("cut.csv", "to 433 numbers", "433 in each")
                    assert_input_error(self, lambda t=tables, f=formats: import_run(t, robot(), formats=f), *words)
                    continue
                again = import_run(tables, robot(), formats=formats).scans.ranges
                self.assertEqual(np.flatnonzero(np.all(np.isnan(again), axis=1)).tolist(), cut)
        (folder / "torn.csv").write_text('t,ranges\n1,"[1.0, x]"')
        assert_input_error(
            self, lambda: import_run({"scans": folder / "torn.csv"}, robot()), "torn.csv", "ranges", "lists"
        )
        (folder / "far.csv").write_text('t,ranges\n1,"' + "1e30 " * robot().scanner.beams + '"')
        assert_input_error(self, lambda: import_run({"scans": folder / "far.csv"}, robot()), "far.csv", "is no range")
        (folder / "twice.csv").write_text("t,r0,t\n1,2,3\n")
        for call in (guess_format, lambda stream, paths, robot: import_run({stream: paths}, robot)):
            assert_input_error(
                self, lambda c=call: c("scans", [folder / "twice.csv"], robot()), "twice.csv", "t", "once"
            )
        written(folder / "none.csv", ["t", "x", "y", "quaternion_z", "quaternion_w"], [[[1, 0, 0, 0.5, 0.5]] * 2])
        tables = {"scans": folder / "text.csv", "odometry": folder / "none.csv"}
        assert_input_error(
            self, lambda: import_run(tables, robot(), columns={"scans.t": "time_ns"}), "none.csv", "no rotation"
        )

    def test_scans_of_a_scanner_that_does_not_spin_steadily(self):
        # Readings come at a steady rate while the motor wanders: each turn has another number of them, and begins
        # elsewhere. The ranges are those to the walls of an oblong room, in closed form.
        lidar, rng = robot().scanner, np.random.default_rng(5)

        def to_walls(angles):
            with np.errstate(divide="ignore"):
                ahead = np.where(np.cos(angles) > 0.0, 3.1, 1.7) / np.abs(np.cos(angles))
                aside = np.where(np.sin(angles) > 0.0, 1.2, 2.3) / np.abs(np.sin(angles))
            return np.minimum(ahead, aside)

        def turn_of(count):
            step = np.radians(270.0 / (count - 1))
            return lidar.beam_angles[0] + rng.uniform(-0.3, 0.3) * step + step * np.arange(count)

        folder, stamps = new_folder(), np.arange(40) * 0.1
        turns = [turn_of(count) for count in rng.integers(400, 460, len(stamps))]
        pairs = [(angles, np.where(rng.random(len(angles)) < 0.02, 0.0, to_walls(angles))) for angles in turns]

        def table(name, columns):
            pyarrow.parquet.write_table(pyarrow.table(columns), folder / f"{name}.parquet")
            return {"scans": [folder / f"{name}.parquet"]}

        ranges, firsts = [told for _, told in pairs], [np.degrees(angles[0]) for angles in turns]
        steps = [np.degrees(angles[1] - angles[0]) for angles in turns]
        # One writes where beams begin and how far each is on; one the angle of each, without those that met nothing;
        # one a row for each beam.
        read = [(angles[told > 0.0] % (2.0 * np.pi), told[told > 0.0]) for angles, told in pairs]
        of_beams = [
            np.repeat(stamps, [len(angles) for angles, _ in read]),
            *map(np.concatenate, zip(*read, strict=True)),
        ]
        for name, columns in (
            ("steps", {"t": stamps, "angle_start": firsts, "increment_angle": steps, "distances": ranges}),
            ("angles", {"t": stamps, "bearings": [a for a, _ in read], "ranges": [r for _, r in read]}),
            ("rows", dict(zip(("t", "angle", "dist"), of_beams, strict=True))),
        ):
            with self.subTest(name=name):
                tables = table(name, columns)
                again = self.imported(tables, {"scans": guess_format("scans", tables["scans"], robot())}).scans
                np.testing.assert_allclose(again.t, stamps)
                off = np.abs(again.ranges - to_walls(lidar.beam_angles))
                # In a corner, and beside a beam that met nothing, a beam has what its neighbour measured.
                self.assertGreater(np.mean(np.isfinite(off)), 0.97)
                self.assertLess(np.nanmedian(off), 0.001)
                self.assertLess(np.nanquantile(off, 0.98), 0.03)
        columns = {"t": stamps, "angles": turns, "ranges": ranges}
        for name, other, words in (
            ("clockwise", {"angles": [-angles for angles in turns]}, ("-0.6", "each to the next")),
            ("coarse", {"angles": [a[::2] for a in turns], "ranges": [r[::2] for r in ranges]}, ("1.2", "0.625")),
            ("turned", {"angles": [angles + np.pi for angles in turns]}, ("elsewhere", "-135 to 135")),
            ("late", {"angles": [a[99:] for a in turns], "ranges": [r[99:] for r in ranges]}, ("first_beam_deg", "-7")),
            ("aside", {"angles": [np.append(a[:-1], np.radians(150.0)) for a in turns]}, ("40 of", "elsewhere")),
            ("uneven", {"angles": [angles[1:] for angles in turns]}, ("angles for", "row 0")),
        ):
            with self.subTest(refused=name):
                tables = table(name, {**columns, **other})
                assert_input_error(self, lambda t=tables: import_run(t, robot()), f"{name}.parquet", "angles", *words)

    def test_the_strangers_log_is_the_drive_that_it_was(self):
        tables = {"scans": [LOG / "laser-1.csv.gz", LOG / "laser-2.csv.gz"], "wheels": [LOG / "encoders.txt"]}
        tables |= {"imu": [LOG / "imu.tsv"], "odometry": [LOG / "velocity.csv"]}
        run = self.imported(tables, {name: guess_format(name, paths, robot()) for name, paths in tables.items()})
        # The encoders' one repeated stamp is left to `check` and `fuse`.
        self.assertEqual([finding.fault for finding in check(run).findings], ["stamps twice"])
        fused = fuse(run, sources=("wheels", "scans", "imu")).track
        self.assertAlmostEqual(fused.length, run.odometry.length, delta=0.05)


class Refused(unittest.TestCase):
    def test_what_is_absurd_is_refused_with_the_likely_unit(self):
        run, folder = short_run(), new_folder()
        write_run(run, folder / "run", tables="csv")
        scans, wheels, imu = (folder / f"run/{name}.csv" for name in ("scans", "wheels", "imu"))
        (folder / "wide.csv").write_text(";".join(f"c{i}" for i in range(900)) + "\n" + ";".join(["1"] * 900))
        for stream, how, words in (
            ("scans", {"length": "mm"}, ["scans.length", "0 % of the beams", "expected m"]),
            ("scans", {"time": "ms"}, ["scans.time", "expected s", "0.1 s"]),
            ("wheels", {"wheels": "m"}, ["wheels.wheels", "'m'", "its top"]),
            ("wheels", {"time": "ms"}, ["wheels", "its top", "time unit"]),
            ("imu", {"time": "iso"}, ["imu.csv", "dates"]),
            ("imu", {"leave_out": ["humidity"]}, ["humidity", "not a column"]),
        ):
            with self.subTest(stream=stream, how=how):
                formats = {stream: TableFormat(**how)}
                tables = {"scans": scans, "wheels": wheels, "imu": imu}
                assert_input_error(self, lambda t=tables, f=formats: import_run(t, robot(), formats=f), *words)
        assert_input_error(self, lambda: import_run({"wheels": wheels}, robot()), "scans")
        assert_input_error(self, lambda: import_run({"scans": scans, "sonar": wheels}, robot()), "sonar", "wheels")
        assert_input_error(self, lambda: import_run({"scans": wheels}, robot()), "scans", "433")
        assert_input_error(self, lambda: import_run({"scans": [scans, wheels]}, robot()), "wheels.csv", "other columns")
        columns = {"scans.t": "clock"}
        assert_input_error(
            self, lambda: import_run({"scans": scans}, robot(), columns=columns), "clock", "not a column"
        )
        assert_input_error(self, lambda: validated(TableFormat, {"length": "ell"}, "--how"), "length", "'ell'", "mm")
        (folder / "torn.csv.gz").write_bytes(gzip.compress(b"t,r0\n1,2\n")[:-6])
        assert_input_error(self, lambda: import_run({"scans": folder / "torn.csv.gz"}, robot()), "torn", "cut=true")
        # However wide a line is, the error stays short.
        with self.assertRaises(ValueError) as caught:
            import_run({"scans": folder / "wide.csv"}, robot())
        self.assertLess(len(str(caught.exception)), 500)


if __name__ == "__main__":
    unittest.main()
