import unittest

import numpy as np
import shapely

from tests.support import assert_input_error, new_folder, robot, short_mapping, short_run
from vinecompass import Command, Navigator, Track, read_settings
from vinecompass.geometry import arc, compose, inverse, transform_points
from vinecompass.navigation import Safety as SafetyCheck
from vinecompass.odometry import odometry_track
from vinecompass.settings import SafetySettings


class Safety(unittest.TestCase):
    def safe(self, wanted, current, points):
        return SafetyCheck(robot()).check(0.0, wanted, current, np.array(points), duration=0.1)

    def test_it_can_always_stop_before_what_it_sees(self):
        drive, rng = robot().drive, np.random.default_rng(18)
        for trial in range(60):
            points = rng.uniform([0.7, -0.6], [3.0, 0.6], (4, 2))
            current, pose = Command(), np.zeros(3)
            for step in range(60):
                # Now and then it wants to turn as hard as it can.
                wanted = Command(1.1, turn_rate=0.2 if trial % 2 or step % 8 else float(rng.uniform(-1.4, 1.4)))
                current = self.safe(wanted, current, transform_points(inverse(pose), points))
                self.assertLessEqual(abs(current.speed), drive.top_speed)
                pose = compose(pose, arc([current.speed, 0.0, current.turn_rate], 0.1))
                placed = shapely.Polygon(transform_points(pose, robot().body.polygon))
                self.assertFalse(placed.intersects(shapely.MultiPoint(points)))

    def test_a_clear_way_is_not_slowed_and_a_blocked_turn_is_not_made(self):
        self.assertAlmostEqual(self.safe(Command(0.07, turn_rate=0.0), Command(), [[3.0, 2.0]]).speed, 0.07)
        turning, turned, corner = Command(), 0.0, np.array([[0.42, 0.36]])
        for _ in range(100):
            turning = self.safe(Command(0.0, turn_rate=1.0), turning, transform_points([0.0, 0.0, -turned], corner))
            turned += 0.1 * turning.turn_rate
        placed = shapely.Polygon(transform_points([0.0, 0.0, turned], robot().body.polygon))
        self.assertEqual(turning.turn_rate, 0.0)
        self.assertTrue(0.0 < placed.distance(shapely.Point(corner[0])) < 0.03)

    def test_what_stands_beside_the_margin_slows_nobody(self):
        beside = 0.31 + 1.3 * SafetySettings().margin
        points = [[x, side * beside] for x in np.linspace(-0.4, 2.5, 60) for side in (-1.0, 1.0)]
        self.assertEqual(self.safe(Command(0.8), Command(0.8), points).speed, 0.8)

    def test_what_is_inside_the_margin_already_does_not_pin_the_robot(self):
        self.assertGreater(self.safe(Command(0.3, turn_rate=0.0), Command(), [[0.0, 0.33]]).speed, 0.0)


class Stale(unittest.TestCase):
    def test_old_scans_old_odometry_and_scans_from_the_future_brake(self):
        run = short_run()
        scan = next(iter(run.scans))
        for t, stamp in ((2.0, 2.0), (0.2, -1.0), (-0.1, -0.1)):
            navigator = Navigator(short_mapping().grid, robot(), run.start, run.start + [1, 0, 0], seed=1)
            odometry = Track(np.array([stamp - 0.1, stamp]), np.zeros((2, 3)))
            navigator.step(t - 0.1, scan, odometry)
            navigator._command = Command(0.5, turn_rate=0.3)
            command = navigator.step(t, scan, odometry)
            self.assertEqual(navigator.state, "stale")
            self.assertRegex(navigator.reason, "s old|ahead of the clock")
            self.assertAlmostEqual(command.speed, 0.5 - 0.1 * robot().drive.braking)
            self.assertLess(abs(command.turn_rate), 0.3)


class AnyRate(unittest.TestCase):
    def test_commands_keep_the_limits_in_the_time_that_has_passed_at_any_rate_with_or_without_a_new_scan(self):
        run, rng = short_run(), np.random.default_rng(5)
        odometry, drive = odometry_track(run), robot().drive
        for rate in (5.0, 20.0, 50.0):
            with self.subTest(rate=rate):
                navigator = Navigator(short_mapping().grid, robot(), run.start, run.start + [2, 0, 0], seed=1)
                t, before, first = run.scans.t[10], Command(), True
                for _ in range(round(0.9 * rate)):
                    elapsed = rng.uniform(0.5, 1.5) / rate
                    t += elapsed
                    until = np.searchsorted(odometry.t, t)
                    known = Track(odometry.t[until - 30 : until], odometry.poses[until - 30 : until])
                    scan = run.scans[int(np.searchsorted(run.scans.t, t - 0.1)) - 1]
                    command = navigator.step(t, scan, known)
                    self.assertEqual(navigator.state, "driving", navigator.reason)
                    if not first:
                        self.assertLessEqual(command.speed - before.speed, drive.acceleration * elapsed + 1e-9)
                        change = abs(command.turn_rate - before.turn_rate)
                        self.assertLessEqual(change, drive.turn_acceleration * elapsed + 1e-9)
                    before, first = command, False
                self.assertGreater(before.speed, 0.1)

    def test_the_velocity_is_measured_over_the_last_tenth_of_a_second(self):
        run = short_run()
        navigator = Navigator(short_mapping().grid, robot(), run.start, run.start + [2, 0, 0], seed=1)
        for i in range(3):
            t = run.scans.t[5 + i] + 0.1
            stamps = t - 0.5 + 0.05 * np.arange(11)
            # It stood, and goes at half a metre a second since a tenth of a second.
            way = np.maximum(0.5 * (stamps - t + 0.1), 0.0)
            navigator.step(t, run.scans[5 + i], Track(stamps, np.column_stack([way, 0 * way, 0 * way])))
        np.testing.assert_allclose(navigator._now.measured, [0.5, 0.0, 0.0], atol=1e-9)


class SettingsFile(unittest.TestCase):
    def test_defaults_hold_and_mistakes_are_named(self):
        path = new_folder() / "settings.toml"
        head = 'format = "vinecompass settings"\nversion = 1\n'
        path.write_text(head + "[costs]\ncomfort = 0.9\n")
        self.assertEqual((read_settings(path).costs.comfort, read_settings(path).costs.contact_price), (0.9, 8.0))
        for body, words in (
            ("[costs]\ncomfrt = 0.9", ["costs.comfrt", "perhaps `comfort`"]),
            ("[mapping]\ncell_size = 0", ["mapping.cell_size", "0"]),
            ("[localization]\nbeams = 10.5", ["localization.beams", "10.5", "whole number"]),
            ('[[dock]]\nname = "press"\npose = [1.0, 2.0]', ["dock[0].pose", "heading_deg"]),
            ("[localisation]\n", ["localisation", "perhaps `localization`"]),
            ('[costs]\nunknown = "maybe"', ["costs.unknown", "'maybe'"]),
            ("[costs]\ncontact_price = 0.5", ["costs.contact_price", "0.5", "1 or more"]),
        ):
            with self.subTest(body=body):
                path.write_text(head + body)
                assert_input_error(self, lambda: read_settings(path), "settings.toml", *words)


if __name__ == "__main__":
    unittest.main()
