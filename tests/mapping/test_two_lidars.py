import unittest

import numpy as np

from tests.support import assert_input_error, room, short_mapping, short_run, site
from vinecompass import Mapper, ParticleLocalizer, Scan, measure_map
from vinecompass.fusion import usual_odometry
from vinecompass.odometry import motion_at


def two_lidars():
    """The short run as two lidars would have seen it, each half of the beams, the second one in a turned frame."""
    run = short_run()
    whole = run.robot.scanner
    (x, y, heading_deg), half = whole.mount, whole.beams // 2
    step = (whole.last_beam_deg - whole.first_beam_deg) / (whole.beams - 1)
    split = whole.first_beam_deg + half * step
    right = whole.model_copy(update={"name": "right", "last_beam_deg": split - step, "beams": half})
    left = whole.model_copy(
        update={
            "name": "left",
            "mount": (x, y, heading_deg + 90.0),
            "first_beam_deg": split - 90.0,
            "last_beam_deg": whole.last_beam_deg - 90.0,
            "beams": whole.beams - half,
        }
    )
    robot = run.robot.model_copy(update={"lidars": [right, left]})
    for scan in run.scans:
        yield robot, Scan(scan.t, scan.ranges[:half], "right")
        yield robot, Scan(scan.t + whole.beam_delays[half], scan.ranges[half:], "left")


class TwoLidars(unittest.TestCase):
    def test_both_draw_one_map_and_both_localize(self):
        run, odometry = short_run(), usual_odometry(short_run())
        mapper = localizer = None
        for robot, scan in two_lidars():
            mapper = mapper or Mapper(robot, start=run.start)
            localizer = localizer or ParticleLocalizer(short_mapping().grid, robot, run.start, seed=1)
            motion = motion_at(odometry, scan.t, robot.find_lidar(scan.lidar))
            mapper.update(scan, motion)
            estimate = localizer.update(scan, motion)
            if estimate.settled:
                off = estimate.pose - run.truth.at([scan.t])[0]
                self.assertLess(np.hypot(off[0], off[1]), 0.1, scan)
        self.assertTrue(estimate.settled)
        accuracy = measure_map(mapper.snapshot(), site(), run)
        self.assertGreater(accuracy.on_wall, 0.98)
        self.assertGreater(accuracy.walls_found, 0.93)
        self.assertEqual(accuracy.doubled, 0.0)

    def test_a_scan_of_a_lidar_that_the_robot_has_not_is_refused(self):
        scan = Scan(0.0, short_run().scans.ranges[0], "rear")
        motion = motion_at(usual_odometry(short_run()), 0.0, short_run().robot.scanner)
        for part in (Mapper(short_run().robot), ParticleLocalizer(room(), short_run().robot, [2.0, 2.0, 0.0], seed=1)):
            with self.subTest(type(part).__name__):
                assert_input_error(self, lambda part=part: part.update(scan, motion), "lidar", "rear")
