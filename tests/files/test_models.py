import re
import unittest

import numpy as np
import pyarrow
import pyarrow.parquet
from PIL import Image

from tests.support import altered_robot, assert_input_error, new_folder, robot, run, short_mapping, short_run, site
from vinecompass import (
    Grid,
    LaserOdometry,
    Mapper,
    Run,
    Settings,
    Simulator,
    build_map,
    dead_reckon,
    demo_file,
    fuse,
    import_run,
    localize,
    plan_path,
    price_floor,
    read_map,
    read_robot,
    read_run,
    read_zones,
    write_map,
    write_run,
)
from vinecompass.runs import Scan, Wheels, read_track


class Bounds(unittest.TestCase):
    def test_numbers_beyond_all_sense_are_refused_by_name(self):
        text = demo_file("robot.toml").read_text()
        folder = new_folder()
        for key, value in (
            ("beams", "2147483648"),
            ("rate", "5e-324"),
            ("top_speed", "1e300"),
            ("wheel_radius", "1e-300"),
            ("farthest", "1e308"),
            ("outline", "[[0.0, 0.0], [3e14, 0.0], [3e14, 3e14]]"),
            ("acceleration", "inf"),
            ("delay", "-1.0"),
        ):
            with self.subTest(key):
                path = folder / f"{key}.toml"
                path.write_text(re.sub(rf"^{key} = .*$", f"{key} = {value}", text, count=1, flags=re.MULTILINE))
                assert_input_error(self, lambda: read_robot(path), f"{key}.toml", key)  # noqa: B023

    def test_files_that_would_hang_overflow_or_be_misread_are_refused(self):
        folder, head = new_folder(), 'format = "vinecompass robot"\nversion = 1\n'
        for name, text in (
            ("brackets", "x = " + "[" * 20_000 + "]" * 20_000),
            ("digits", "x = " + "9" * 6000),
            ("dots", ".".join("a" * 20_000) + " = 1"),
            ("table", "[" + ".".join("a" * 20_000) + "]\nb = 1"),
        ):
            with self.subTest(name):
                (folder / name).write_text(head + text)
                assert_input_error(self, lambda: read_robot(folder / name), name)  # noqa: B023
        assert_input_error(self, lambda: read_robot("/dev/zero"), "device")
        (folder / "twice.csv").write_text("t,x,x,y,heading\n0,0,0,0,0\n1,1,1,1,0\n")
        (folder / "back.csv").write_text("t,x,y,heading\n0,0,0,0\n0,1,1,0\n")
        for name, told in (("twice.csv", "more than once"), ("back.csv", "row 1")):
            assert_input_error(self, lambda: read_track(folder / name), name, told)  # noqa: B023
        beams = ",".join(["t", *(f"r{i}" for i in range(3))])
        (folder / "far.csv").write_text(f"{beams}\n0,1,2,1e300\n")
        turns = np.linspace(0.0, 6.28, 20_001)
        ring = np.column_stack([np.cos(turns), np.sin(turns)]).round(6).tolist()
        zone = '[[zone]]\nname = "a"\nkind = "closed"\npolygon = '
        for name, text, told in (
            ("corners", f"{zone}{ring}\n", "20001 entries"),
            ("zones", f"{zone}[[0, 0], [1, 0], [1, 1]]\n" * 2001, "2001 entries"),
        ):
            (folder / name).write_text('format = "vinecompass zones"\nversion = 1\n' + text)
            assert_input_error(self, lambda: read_zones(folder / name), name, told)  # noqa: B023
        far = {"scans": folder / "far.csv", "wheels": folder / "far.csv"}
        assert_input_error(self, lambda: import_run(far, altered_robot(robot(), lidar={"beams": 3})), "1e+300")
        write_run(short_run(), folder / "run")
        wheels = pyarrow.parquet.read_table(folder / "run" / "wheels.parquet")
        dates = pyarrow.array((wheels["t"].to_numpy() * 1e9).astype(np.int64), pyarrow.timestamp("ns"))
        pyarrow.parquet.write_table(wheels.set_column(0, "t", dates), folder / "run" / "wheels.parquet")
        assert_input_error(self, lambda: read_run(folder / "run"), "wheels.parquet", "t: is a date", "time=iso")
        (folder / "run" / "site.toml").unlink()
        (folder / "run" / "site.toml").symlink_to("/etc/hostname")
        assert_input_error(self, lambda: read_run(folder / "run"), "site.toml", "link out")
        # A picture of 16 bits: a wall of 1000 of 65535 is a wall, and not as bright as can be.
        write_map(Grid(np.full((4, 4), -3.0, np.float32), 0.05), folder / "deep.png")
        levels = np.full((4, 4), 60_000, np.uint16)
        levels[1] = 1000
        Image.fromarray(levels).save(folder / "deep.png")
        grid = read_map(folder / "deep.png")
        self.assertTrue(grid.occupied[2].all() and grid.free[[0, 1, 3]].all())

    def test_on_the_command_line_they_are_refused_before_any_work(self):
        for words, told in (
            (("simulate", "s.toml", "--robot", "r.toml", "--route", "x", "-o", "o", "--seed", "-1"), "--seed"),
            (("drive", "s.toml", "--robot", "r", "--map", "m.png", "--to", "x", "--time-limit", "nan"), "finite"),
            (("drive", "s.toml", "--robot", "r", "--map", "m.png", "--to", "x", "--time-limit", "inf"), "range"),
            (("edit", "m.png", "--cell-size", "1e-9"), "--cell-size"),
            (("plan", "m.png", "--robot", "r", "--from", "0,0,0", "--to", "1,1,0", "--radius", "1e300"), "--radius"),
        ):
            with self.subTest(told):
                status, _, error = run(*words)
                self.assertEqual((status, error.count("\n")), (2, 1), error)
                self.assertIn(told, error)


class Names(unittest.TestCase):
    def test_names_do_nothing_to_a_terminal_and_are_no_formulas_in_figures(self):
        folder = new_folder()
        write_map(short_mapping().grid, folder / "map.png")
        text = demo_file("robot.toml").read_text().replace('name = "Tendril"', 'name = "a$b_$c^ \\u001b[31m"', 1)
        (folder / "robot.toml").write_text(text)
        given = ("--robot", folder / "robot.toml", "--picture", folder / "p.png")
        status, printed, _ = run("price", folder / "map.png", *given)
        self.assertEqual(status, 0)
        self.assertIn("a$b_$c^ \\x1b[31m", printed)
        status, _, error = run("price", folder / "no\x1b[31m\n.png", *given)
        self.assertEqual((status, error.count("\n")), (2, 1))
        self.assertNotIn("\x1b", error)


class Doors(unittest.TestCase):
    def test_public_calls_name_the_argument_that_is_wrong(self):
        made, grid, body = short_run(), short_mapping().grid, robot()
        costmap, two = price_floor(grid, body), np.array([0.0, 1.0])
        for key, call in (
            ("start", lambda: plan_path(costmap, body, "dock", made.start)),
            ("start", lambda: plan_path(costmap, body, made.start[:2], made.start)),
            ("costmap", lambda: plan_path(grid, body, made.start, made.start)),
            ("grid", lambda: price_floor(None, body)),
            ("robot", lambda: price_floor(grid, "robot.toml")),
            ("log_odds", lambda: Grid(np.full((4, 4), np.nan, np.float32), 0.05)),
            ("initial_pose", lambda: localize(grid, made, "dock")),
            ("run", lambda: localize(grid, "run")),
            ("settings", lambda: localize(grid, made, settings=Settings())),
            ("run", lambda: build_map("run")),
            ("run", lambda: fuse(grid)),
            ("wheels.angles", lambda: dead_reckon(Wheels(two, np.zeros((2, 3))), body.drive)),
            ("wheels.angles", lambda: Run(body, np.zeros(3), wheels=Wheels(np.arange(3.0), np.zeros((2, 2))))),
            ("start", lambda: Run(body, np.zeros(2), scans=made.scans)),
            ("start", lambda: Simulator(site(), body, start=[np.nan, 0.0, 0.0], seed=0)),
            ("start", lambda: Mapper(body, start=[1.0, 2.0])),
            ("scan", lambda: LaserOdometry(body.scanner).update(Scan(0.0, np.zeros(7, np.float32)))),
        ):
            with self.subTest(key):
                assert_input_error(self, call, key)
        # Lists, and arrays of any layout and byte order, are the same floor.
        cells = np.where(np.arange(6400).reshape(80, 80) % 79 == 0, 3.0, -3.0)
        prices = price_floor(Grid(cells.astype(np.float32), 0.05), body).prices
        for other in (cells.tolist(), cells, np.asfortranarray(cells), cells.astype(">f4")):
            np.testing.assert_array_equal(price_floor(Grid(other, 0.05), body).prices, prices)


if __name__ == "__main__":
    unittest.main()
