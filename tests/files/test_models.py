import re
import unittest

from tests.support import assert_input_error, new_folder, run
from vinecompass import demo_file, read_robot


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


if __name__ == "__main__":
    unittest.main()
