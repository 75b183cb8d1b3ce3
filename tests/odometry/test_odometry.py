import dataclasses
import unittest

import numpy as np

from tests.support import altered_robot, assert_input_error, robot, short_run, site
from vinecompass import Track, compare_tracks, dead_reckon
from vinecompass.geometry import arc, compose, relative, transform_points
from vinecompass.odometry import (
    contradictions_of_scans,
    deskewed_ends,
    deskewed_hits,
    motion_at,
    odometry_track,
    straightened_beams,
)
from vinecompass.runs import Wheels


class DeadReckoning(unittest.TestCase):
    def test_a_circle_is_followed_exactly_however_few_the_readings(self):
        drive, radius, turn = robot().drive, 2.0, 1.5 * np.pi
        for count in (4, 200):
            share = np.linspace(0.0, 1.0, count)
            left = share * turn * (radius - drive.track_width / 2) / drive.wheel_radius
            right = share * turn * (radius + drive.track_width / 2) / drive.wheel_radius
            track = dead_reckon(Wheels(share, np.column_stack([left, right])), drive, start=[1.0, 1.0, 0.0])
            np.testing.assert_allclose(track.poses[-1], [1.0 - radius, 1.0 + radius, -np.pi / 2], atol=1e-9)

    def test_on_a_dry_floor_it_stays_with_the_truth_for_seventeen_metres(self):
        run = short_run()
        error = compare_tracks(dead_reckon(run.wheels, run.robot.drive, start=run.start), run.truth)
        self.assertLess(error.position[-1], 0.05 * run.truth.length)

    def test_an_odometry_stream_is_preferred_and_one_of_the_two_is_needed(self):
        run = short_run()
        self.assertIs(odometry_track(dataclasses.replace(run, odometry=run.truth)), run.truth)
        assert_input_error(self, lambda: odometry_track(dataclasses.replace(run, wheels=None)), "odometry", "wheels")


class ScansBesideOdometry(unittest.TestCase):
    def test_a_scanner_that_is_mirrored_or_turned_is_found_out_and_one_that_is_a_little_off_is_none(self):
        run = short_run()
        x, y, heading = run.robot.scanner.mount
        for turned, mirrored, words in (
            (0.0, False, None),
            (6.0, False, None),
            (180.0, False, "the scans go back"),
            (90.0, False, "go to the left"),
            (-90.0, False, "go to the right"),
            (0.0, True, "turn the other way"),
        ):
            with self.subTest(turned=turned, mirrored=mirrored):
                filed = altered_robot(run.robot, lidar={"mount": (x, y, heading + turned)})
                ranges = run.scans.ranges[:, ::-1] if mirrored else run.scans.ranges
                scans = dataclasses.replace(run.scans, ranges=np.ascontiguousarray(ranges))
                found = contradictions_of_scans(dataclasses.replace(run, robot=filed, scans=scans))
                self.assertEqual(len(found), words is not None)
                self.assertIn(words or "", "".join(found))
        self.assertEqual(contradictions_of_scans(dataclasses.replace(run, wheels=None)), ())


class Deskewing(unittest.TestCase):
    def test_the_ends_of_the_reach_count_as_readings_everywhere(self):
        # In 32 bits, as scans are kept, 0.12 is less than it is in 64, and 0.1 more.
        for nearest, farthest in ((0.12, 12.1), (0.1, 12.3)):
            lidar = altered_robot(robot(), lidar={"nearest": nearest, "farthest": farthest}).scanner
            for reach in (nearest, farthest):
                with self.subTest(reach=reach):
                    ranges = np.full(lidar.beams, reach, np.float32)
                    sweep = np.zeros((lidar.beams, 3))
                    self.assertTrue(np.all(lidar.returned(ranges)))
                    self.assertEqual(len(deskewed_hits(ranges, lidar, sweep)), lidar.beams)
                    beams = straightened_beams(ranges, lidar, sweep, clear_reach=5.0)
                    self.assertEqual(np.count_nonzero(beams.hit), lidar.beams)

    def test_a_turning_scan_is_straightened_onto_the_walls(self):
        run, lidar = short_run(), robot().scanner
        turn_rates = np.abs(np.gradient(np.unwrap(run.truth.poses[:, 2]), run.truth.t))
        fastest = np.argmax(turn_rates[:-200])
        index = int(np.searchsorted(run.scans.t, run.truth.t[fastest])) - 1
        stamp, ranges = run.scans.t[index], run.scans.ranges[index]
        motion = motion_at(run.truth, stamp, lidar)
        off = {}
        for name, sweep in (("straightened", motion.sweep), ("as it came", np.zeros((lidar.beams, 3)))):
            points = transform_points(motion.pose, deskewed_hits(ranges, lidar, sweep))
            off[name] = np.percentile(site().distances_to_surface(points), 75)
        self.assertLess(off["straightened"], 0.03)
        self.assertGreater(off["as it came"], 2.0 * off["straightened"])

    def test_each_beam_starts_at_the_scanner_where_it_then_was(self):
        lidar, velocity = robot().scanner, np.array([0.8, 0.0, 1.2])
        sweep = arc(velocity, lidar.beam_delays)
        origins, ends = deskewed_ends(np.full(lidar.beams, 3.0), lidar, sweep)
        for beam in (0, 200, 432):
            sensor = compose(compose([0, 0, 0], sweep[beam]), lidar.mount_pose)
            np.testing.assert_allclose(origins[beam], sensor[:2])
            direction = relative(np.append(ends[beam], 0.0), sensor)
            np.testing.assert_allclose(np.arctan2(direction[1], direction[0]), lidar.beam_angles[beam], atol=1e-9)

    def test_a_motion_is_read_off_its_track(self):
        track = Track(np.array([0.0, 1.0]), np.array([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0]]))
        motion = motion_at(track, 0.5, robot().scanner)
        np.testing.assert_allclose(motion.pose, [0.5, 0.0, 0.0])
        np.testing.assert_allclose(motion.sweep[:, 0], robot().scanner.beam_delays, atol=1e-12)


if __name__ == "__main__":
    unittest.main()
