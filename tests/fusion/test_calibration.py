import dataclasses
import unittest

import numpy as np

from tests.support import altered_robot, assert_input_error, dry_run, robot, short_run, site
from vinecompass import Track, estimate_mount, record_drive
from vinecompass.fusion import amended_robot
from vinecompass.runs import Scans

TRUE = {
    "mount_x": 0.575,
    "mount_y": 0.04,
    "mount_heading": np.radians(3.0),
    "wheel_radius": 0.112,
    "track_width": 0.56,
    "turn_rate_bias": 0.013,
    "turn_rate_scale": 1.02,
    "stamp_offset": 0.05,
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
}


class KnownWrongValues(unittest.TestCase):
    def test_they_are_recovered_with_honest_errors(self):
        made = altered_robot(
            robot(),
            lidar={"mount": (0.575, 0.04, 3.0)},
            drive={"track_width": 0.56, "wheel_radius": 0.112},
            imu={"turn_rate_bias": 0.013, "turn_rate_scale": 1.02},
            body={"outline": [[-0.36, -0.31], [0.62, -0.31], [0.62, 0.31], [-0.36, 0.31]]},
        )
        run = record_drive(site(), made, site().find_route("press round").points[:12], seed=4)
        run = dataclasses.replace(run, robot=robot(), scans=Scans(run.scans.t - 0.05, run.scans.ranges))
        calibration = estimate_mount(run)
        self.assertFalse(calibration.mirrored)
        for name, true in TRUE.items():
            estimate = calibration.values[name]
            with self.subTest(value=name, estimate=estimate):
                self.assertTrue(estimate.known)
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
        self.assertTrue(estimate_mount(mirrored).mirrored)

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


if __name__ == "__main__":
    unittest.main()
