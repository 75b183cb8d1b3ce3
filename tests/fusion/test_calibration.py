import dataclasses
import unittest

import numpy as np
from benchmarks.other_world.base import OtherBase

from tests.support import DRY_ROUTE, altered_robot, assert_input_error, dry_run, robot, short_run, site
from vinecompass import Track, check, estimate_mount, fuse, record_drive
from vinecompass.fusion import amended_robot
from vinecompass.fusion.calibrating.base_response import base_response
from vinecompass.runs import Commands, Scans

TRUE = {
    "mount_x": 0.575,
    "mount_y": 0.04,
    "mount_heading": np.radians(3.0),
    "wheel_radius": 0.112,
    "track_width": 0.56,
    "turn_rate_bias": 0.013,
    "turn_rate_scale": 1.02,
    "stamp_offset": 0.05,
    "wheel_difference": 0.008,
    "slip": 0.008,
    "turn_rate_noise": 0.008,
    "range_noise": 0.012,
}
WITHIN = {
    "mount_x": 0.02,
    "mount_y": 0.02,
    "mount_heading": np.radians(0.3),
    "wheel_radius": 0.0011,
    "track_width": 0.0056,
    "turn_rate_bias": 0.001,
    "turn_rate_scale": 0.005,
    "stamp_offset": 0.01,
    "wheel_difference": 0.006,
    "slip": 0.003,
    "turn_rate_noise": 0.0004,
    "range_noise": 0.003,
}


class KnownWrongValues(unittest.TestCase):
    def test_they_are_recovered_with_honest_errors(self):
        made = altered_robot(
            robot(),
            lidar={"mount": (0.575, 0.04, 3.0), "range_noise": 0.012},
            drive={"track_width": 0.56, "wheel_radius": 0.112, "wheel_difference": 0.008},
            wheels={"slip": 0.008},
            imu={"turn_rate_bias": 0.013, "turn_rate_scale": 1.02, "turn_rate_noise": 0.008},
            body={"outline": [[-0.36, -0.31], [0.62, -0.31], [0.62, 0.31], [-0.36, 0.31]]},
        )
        run = record_drive(site(), made, site().find_route("press round").points[:12], seed=4)
        run = dataclasses.replace(run, robot=robot(), scans=Scans(run.scans.t - 0.05, run.scans.ranges))
        calibration = estimate_mount(run)
        self.assertFalse(calibration.mirrored)
        for name, true in TRUE.items():
            estimate = calibration.values[name]
            with self.subTest(value=name, estimate=estimate):
                self.assertTrue(estimate.known or name == "wheel_difference")
                self.assertLess(abs(estimate.value - true), WITHIN[name])
                self.assertLess(abs(estimate.value - true), 5.0 * estimate.error)
        amended = amended_robot(run.robot, calibration)
        self.assertAlmostEqual(amended.scanner.mount[0], 0.575, delta=0.02)
        self.assertAlmostEqual(amended.scanner.stamp_offset, 0.05, delta=0.01)
        self.assertAlmostEqual(amended.drive.track_width, 0.56, delta=0.0056)

    def test_turned_and_mirrored_lidars(self):
        run = dry_run()
        for heading_deg in (90.0, 180.0):
            wrong = dataclasses.replace(run, robot=altered_robot(robot(), lidar={"mount": (0.42, 0.0, heading_deg)}))
            self.assertLess(abs(estimate_mount(wrong).values["mount_heading"].value), np.radians(1.0))
        mirrored = dataclasses.replace(run, scans=Scans(run.scans.t, run.scans.ranges[:, ::-1].copy()))
        calibration = estimate_mount(mirrored)
        self.assertTrue(calibration.mirrored)
        self.assertEqual(calibration.values["sweep_time"].value, -robot().scanner.sweep_seconds)

    def test_a_scanner_that_sweeps_otherwise_is_found_by_how_its_scans_bend(self):
        filed = robot()
        for seconds in (0.0, -filed.scanner.sweep_seconds):
            made = altered_robot(filed, lidar={"sweep_time": seconds})
            run = record_drive(site(), made, DRY_ROUTE, seed=5)
            wrong = dataclasses.replace(run, robot=filed)
            with self.subTest(seconds=seconds):
                calibration = estimate_mount(wrong)
                self.assertEqual(calibration.values["sweep_time"].value, seconds)
                self.assertAlmostEqual(amended_robot(filed, calibration).scanner.sweep_seconds, seconds, places=5)
                # The clock and the wheels are not blamed for it.
                self.assertAlmostEqual(calibration.values["stamp_offset"].value, 0.0, delta=0.01)
                self.assertAlmostEqual(calibration.values["track_width"].value, filed.drive.track_width, delta=0.01)
                self.assertIn(f"set sweep_time = {seconds:.4g}", fuse(wrong).doubts[0])
                self.assertEqual(fuse(run).doubts, ())
                found = check(wrong).findings[0]
                self.assertEqual((found.stream, found.fault), ("scans", "another sweep than filed"))
                self.assertEqual(check(run).findings, ())

    def test_an_odometry_stream_will_do_and_too_little_motion_is_named(self):
        run = dry_run()
        values = estimate_mount(dataclasses.replace(run, wheels=None, odometry=run.truth)).values
        self.assertAlmostEqual(values["mount_x"].value, 0.42, delta=0.01)
        self.assertNotIn("wheel_radius", values)
        still = Track(run.truth.t, np.repeat(run.truth.poses[:1], len(run.truth), axis=0))
        assert_input_error(
            self, lambda: estimate_mount(dataclasses.replace(run, wheels=None, odometry=still)), "too little", "curves"
        )
        assert_input_error(self, lambda: estimate_mount(dataclasses.replace(short_run(), wheels=None)), "wheels")


class Response(unittest.TestCase):
    """The delay and lag of bases of the other world, which shares no code with our law of motion."""

    def test_delay_and_lag_are_those_of_a_base_that_is_told_to_speed_up_brake_and_turn(self):
        rng, drive = np.random.default_rng(3), robot().drive
        for delay, lag in ((0.0, 0.05), (0.1, 0.2), (0.25, 0.08)):
            with self.subTest(delay=delay, lag=lag):
                base = OtherBase(
                    np.zeros(3), delay=delay, lag=lag, radius=0.0, sideways=False, scales=np.ones(3), noise=0.0, rng=rng
                )
                wanted, told, rows, made = np.zeros(2), np.zeros(2), [], []
                for step in range(1600):
                    if step % 40 == 0:
                        wanted = rng.uniform([0.0, -1.0], [1.0, 1.0])
                    most = 0.05 * np.array([drive.acceleration, drive.turn_acceleration])
                    told = told + np.clip(wanted - told, -most, most)
                    base.tell(np.array([told[0], 0.0, told[1]]))
                    rows.append((base.t, *told))
                    for _ in range(10):
                        base.go_on()
                    made.append((base.t, *(base.velocity + rng.normal(0.0, 0.005, 3))))
                t, *velocities = np.array(made).T
                found = base_response(drive, Commands(*np.array(rows).T), t, np.array(velocities).T)
                self.assertAlmostEqual(found["delay"].value, delay, delta=0.035)
                self.assertAlmostEqual(found["lag"].value, lag, delta=0.03)
        standing = Commands(np.arange(100.0), np.zeros(100), np.zeros(100))
        self.assertEqual(base_response(drive, standing, np.arange(100.0), np.zeros((100, 3))), {})


if __name__ == "__main__":
    unittest.main()
