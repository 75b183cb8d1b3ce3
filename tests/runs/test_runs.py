import dataclasses
import itertools
import unittest

import numpy as np

from tests.support import assert_input_error, new_folder, short_run
from vinecompass import Robot, Track, compare_tracks, read_run, read_track, write_run, write_track
from vinecompass.runs import Imu, Positions, Scans, Wheels, cleaned
from vinecompass.runs.order import rows_in_order


class RunFolder(unittest.TestCase):
    def test_what_is_written_is_read_again_to_the_last_bit(self):
        for tables in ("parquet", "csv"):
            with self.subTest(tables=tables):
                folder = new_folder() / "run"
                write_run(short_run(), folder, tables=tables)
                again = read_run(folder)
                self.assertEqual(again.robot, short_run().robot)
                self.assertEqual(again.site_toml, short_run().site_toml)
                np.testing.assert_allclose(again.start, short_run().start, atol=1e-12)
                for name, stream in short_run().streams().items():
                    for field in dataclasses.fields(stream):
                        np.testing.assert_array_equal(
                            getattr(getattr(again, name), field.name), getattr(stream, field.name), err_msg=name
                        )

    def test_only_a_run_is_replaced(self):
        folder = new_folder()
        (folder / "thesis.txt").write_text("three years")
        assert_input_error(self, lambda: write_run(short_run(), folder), str(folder), "run.toml")
        self.assertEqual((folder / "thesis.txt").read_text(), "three years")
        run = folder / "run"
        write_run(short_run(), run)
        write_run(short_run(), run, tables="csv")
        self.assertFalse((run / "scans.parquet").exists())
        self.assertEqual(sorted(path.name for path in folder.iterdir()), ["run", "thesis.txt"])

    def test_what_is_wrong_is_named(self):
        folder = new_folder() / "run"
        write_run(short_run(), folder, tables="csv")
        assert_input_error(self, lambda: read_run(folder.parent), "run.toml")
        wheels, whole = folder / "wheels.csv", (folder / "wheels.csv").read_text()
        first, second, *rest = whole.splitlines()
        for text, words in (
            ("t,left\n0,1\n", ["wheels.csv", "right", "missing"]),
            ("t,left,right\n0,1,2\n1,oops,3\n", ["wheels.csv", "left", "'oops'", "numbers"]),
            ("t,left,right\n0,1,2\n1,nan,3\n", ["wheels.csv", "left", "row 1"]),
            ("t,left,right\n0,1,2\n0,1,2\n", ["wheels.t", "row 1"]),
            ("t,left,right\n", ["wheels"]),
            (first + "\n" + second + ",7\n" + rest[0], ["wheels.csv", "whole table"]),
        ):
            with self.subTest(text=text[:30]):
                wheels.write_text(text)
                assert_input_error(self, lambda: read_run(folder), *words)
        wheels.unlink()
        (folder / "scans.csv").write_text("t,r0,r1\n0,1,2\n")
        assert_input_error(self, lambda: read_run(folder), "scans", "433")
        (folder / "scans.csv").unlink()
        (folder / "scans.parquet").write_bytes(b"PAR1 broken")
        assert_input_error(self, lambda: read_run(folder), "scans.parquet", "whole table")
        (folder / "scans.parquet").unlink()
        assert_input_error(self, read_run(folder).need_scans, "scans")


class AsRecorded(unittest.TestCase):
    def test_a_run_may_be_read_as_it_was_recorded_and_is_cleaned_by_fusion(self):
        run, folder = short_run(), new_folder() / "run"
        t = run.imu.t.copy()
        t[100:120] -= 0.7
        rate = np.where(np.arange(len(t)) == 5, np.nan, run.imu.turn_rate)
        bad = dataclasses.replace(run, as_recorded=True, imu=dataclasses.replace(run.imu, t=t, turn_rate=rate))
        for tables in ("parquet", "csv"):
            write_run(bad, folder, tables=tables)
            assert_input_error(self, lambda: read_run(folder), "imu", "row")
            again = read_run(folder, as_recorded=True)
            np.testing.assert_array_equal(again.imu.t, t)
            self.assertTrue(np.isnan(again.imu.turn_rate[5]))
        mended, notes = cleaned(again)
        self.assertEqual(len(mended.imu.t), len(t) - 21)
        self.assertIn("1 rows not finite and 20 out of order", notes[0])
        assert_input_error(self, lambda: dataclasses.replace(bad, as_recorded=False), "imu", "row")

    def test_a_clock_that_is_set_back_costs_no_row(self):
        run = short_run()
        later = {name: stream.t > 8.0 for name, stream in run.streams().items()}
        back = {
            name: dataclasses.replace(stream, t=np.where(later[name], stream.t - 6.0, stream.t))
            for name, stream in run.streams().items()
        }
        mended, notes = cleaned(dataclasses.replace(run, as_recorded=True, **back))
        self.assertEqual(len(notes), len(back))
        for name, stream in run.streams().items():
            again, period = mended.streams()[name].t, np.median(np.diff(stream.t))
            np.testing.assert_allclose(again, stream.t, atol=0.3 * period)
        # What was recorded in parts, with long pauses, is no bundle.
        parts = dataclasses.replace(run.imu, t=run.imu.t + 30.0 * (np.arange(len(run.imu.t)) // 40))
        self.assertEqual(cleaned(dataclasses.replace(run, as_recorded=True, imu=parts))[1], ())
        # A single stamp that leaps is no clock that was set: it costs its row, and no more.
        leaps = run.imu.t + np.where(np.arange(len(run.imu.t)) == 100, 900.0, 0.0)
        mended, _ = cleaned(dataclasses.replace(run, as_recorded=True, imu=dataclasses.replace(run.imu, t=leaps)))
        np.testing.assert_array_equal(mended.imu.t, np.delete(run.imu.t, 100))

    def test_scans_that_repeat_the_one_before_are_left_out_and_silent_ones_are_not(self):
        run = dataclasses.replace(short_run(), as_recorded=True)
        ranges = run.scans.ranges.copy()
        ranges[5:9] = ranges[4]
        ranges[12:15] = np.inf
        ranges[20:22] = np.where(np.arange(ranges.shape[1]) % 2, ranges[20], np.nan)
        spoilt = dataclasses.replace(run, scans=Scans(run.scans.t, ranges))
        left, notes = cleaned(spoilt)
        kept = np.delete(np.arange(len(ranges)), [5, 6, 7, 8, 21])
        np.testing.assert_array_equal(left.scans.t, run.scans.t[kept])
        np.testing.assert_array_equal(left.scans.ranges, ranges[kept])
        self.assertEqual(notes, ("scans: 5 rows repeat the one before to the last digit, left out",))
        whole, notes = cleaned(spoilt, keep_repeats=True)
        self.assertEqual((len(whole.scans), notes), (len(ranges), ()))
        # One and the same scan all along is a single reading.
        stuck = dataclasses.replace(run, scans=Scans(run.scans.t, np.tile(ranges[4], (len(ranges), 1))))
        left, notes = cleaned(stuck)
        self.assertIsNone(left.scans)
        self.assertIn("a single reading", notes[-1])

    def test_the_longest_increasing_part_is_kept(self):
        rng = np.random.default_rng(2)
        for _ in range(20):
            t = rng.permutation(8).astype(float)
            kept = t[rows_in_order(t)]
            longest = max(
                (c for size in range(1, 9) for c in itertools.combinations(t, size) if all(np.diff(c) > 0.0)), key=len
            )
            self.assertTrue(np.all(np.diff(kept) > 0.0))
            self.assertEqual(len(kept), len(longest))

    def test_position_steering_and_a_clock_offset_survive_the_files(self):
        run, folder = short_run(), new_folder() / "run"
        document = run.robot.model_dump(exclude_none=True)
        document["drive"] |= {"kind": "car", "wheelbase": 0.8, "turning_radius": 1.5}
        document["lidars"][0]["stamp_offset"] = 0.25
        wheels = dataclasses.replace(run.wheels, steering=np.linspace(-0.3, 0.3, len(run.wheels.t)))
        made = dataclasses.replace(
            run,
            robot=Robot.model_validate(document),
            wheels=wheels,
            position=Positions(run.truth.t[::100], *run.truth.poses[::100, :2].T),
        )
        for tables in ("parquet", "csv"):
            again = read_run(write_run(made, folder, tables=tables))
            np.testing.assert_allclose(again.scans.t, run.scans.t, atol=1e-12)
            np.testing.assert_array_equal(again.wheels.steering, wheels.steering)
            np.testing.assert_array_equal(again.position.x, made.position.x)
        # The file holds the stamps as the scanner's own clock gave them.
        raw = first_row(folder / "scans.csv")
        self.assertAlmostEqual(raw[0], run.scans.t[0] - 0.25)


def first_row(path):
    """The first row of a CSV table."""
    return np.genfromtxt(path, delimiter=",", skip_header=1, max_rows=1)


class Streams(unittest.TestCase):
    def test_a_run_refuses_streams_that_make_no_sense(self):
        run, nothing = short_run(), np.zeros(0)
        for change, words in (
            ({"wheels": Wheels(nothing, np.zeros((0, 2)))}, ["wheels", "no rows"]),
            ({"imu": Imu(*np.array([[0.0, 2.0, 1.0]] * 4))}, ["imu.t", "row 2"]),
            ({"scans": Scans(np.array([0.0]), np.ones((1, 5), np.float32))}, ["scans", "5", "433"]),
        ):
            assert_input_error(self, lambda change=change: dataclasses.replace(run, **change), *words)

    def test_errors_of_a_shifted_and_turned_track_in_closed_form(self):
        t = np.linspace(0.0, 9.0, 10)
        truth = Track(t, np.column_stack([t, np.zeros(10), np.full(10, 3.1)]))
        error = compare_tracks(Track(t, truth.poses + [0.3, 0.4, 0.2]), truth)
        np.testing.assert_allclose([error.position_rmse, error.heading_rmse], [0.5, 0.2])
        self.assertEqual(len(error.since(5.0).t), 5)

    def test_a_track_survives_its_file(self):
        path = new_folder() / "track.csv"
        write_track(short_run().truth, path)
        np.testing.assert_array_equal(read_track(path).poses, short_run().truth.poses)
        self.assertIsNone(read_track(path).covariances)
        half = np.random.default_rng(1).normal(size=(3, 3, 3))
        states = np.array(["searching", "tracking", "lost"])
        known = Track(np.arange(3.0), half[0], half @ half.transpose(0, 2, 1), states)
        write_track(known, path)
        np.testing.assert_array_equal(read_track(path).covariances, known.covariances)
        np.testing.assert_array_equal(read_track(path).states, states)


if __name__ == "__main__":
    unittest.main()
