import unittest

import numpy as np

from tests.following.test_local_planners import car_robot, omni_robot
from tests.support import assert_input_error, edited, robot
from vinecompass import Command, read_robot
from vinecompass.motion import limit_command, limits_of, wheel_speeds


class Limits(unittest.TestCase):
    def test_whatever_is_wished_for_every_wheel_stays_within_its_limit_and_so_do_the_changes(self):
        rng, duration = np.random.default_rng(6), 0.1
        for vehicle in (robot(), omni_robot(), car_robot()):
            drive, limits, current = vehicle.drive, limits_of(vehicle.drive), Command()
            with self.subTest(kind=drive.kind):
                for _ in range(1500):
                    wild = rng.random() < 0.02
                    speed, sideways, turn_rate = (np.nan, -np.inf, np.inf) if wild else rng.normal(0.0, 2.0, 3)
                    wish = Command(speed, sideways=sideways, turn_rate=turn_rate)
                    new = limit_command(wish, current, duration, limits)
                    rims = wheel_speeds(drive, new.velocity) * drive.wheel_radius
                    self.assertLessEqual(np.abs(rims).max(), limits.top_rim_speed + 1e-6)
                    self.assertTrue(-drive.reverse_speed - 1e-9 <= new.speed <= drive.top_speed + 1e-9)
                    self.assertLessEqual(abs(new.turn_rate), drive.top_turn_rate + 1e-9)
                    self.assertLessEqual(np.hypot(new.speed, new.sideways), drive.top_speed + 1e-6)
                    for before, after in ((current.speed, new.speed), (current.sideways, new.sideways)):
                        self.assertLessEqual(abs(after) - abs(before), duration * drive.acceleration + 1e-9)
                        self.assertLessEqual(
                            abs(after - before), duration * (drive.braking + drive.acceleration) + 1e-9
                        )
                    if drive.kind == "car":
                        self.assertLessEqual(abs(new.turn_rate) * drive.turning_radius, abs(new.speed) + 1e-9)
                    else:
                        self.assertLessEqual(
                            abs(new.turn_rate - current.turn_rate), duration * drive.turn_acceleration + 1e-9
                        )
                    current = new

    def test_a_steady_wish_is_reached_and_keeps_its_curve(self):
        for wish in (Command(0.8, turn_rate=0.5), Command(1.1, turn_rate=1.2), Command(-0.3, turn_rate=-0.4)):
            current = Command()
            for _ in range(60):
                current = limit_command(wish, current, 0.1, limits_of(robot().drive))
            with self.subTest(wish=wish):
                self.assertAlmostEqual(current.turn_rate / current.speed, wish.turn_rate / wish.speed, places=6)

    def test_wheel_speeds_in_turns_a_minute(self):
        drive = robot().drive
        speeds = wheel_speeds(drive, [0.5, 0.0, 0.2], rpm=True)
        rims = np.array([0.5 - 0.27 * 0.2, 0.5 + 0.27 * 0.2])
        np.testing.assert_allclose(speeds, rims / (2.0 * np.pi * drive.wheel_radius) * 60.0)

    def test_a_zero_limit_in_the_robot_file_is_named(self):
        for key, line in (("top_speed", "top_speed = 1.1"), ("turn_acceleration", "turn_acceleration = 2.4")):
            path = edited("robot.toml", line, f"{key} = 0.0")
            assert_input_error(self, lambda p=path: read_robot(p), "robot.toml", f"drive.{key}", "0.0", "greater than")


if __name__ == "__main__":
    unittest.main()
