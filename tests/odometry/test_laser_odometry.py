import unittest

import numpy as np

from tests.support import altered_robot, dry_run, loop_run, robot
from vinecompass import LaserOdometry, Track, compare_tracks, fuse
from vinecompass.geometry import relative, wrap_angle
from vinecompass.odometry import laser_track
from vinecompass.odometry.kernels import fit_lines
from vinecompass.runs import Scan, Scans
from vinecompass.simulation import cast_beams


def scans_between(segments, poses, lidar, noise=0.0, seed=0):
    """Scans at rest in the middle of `segments` (S, 4), one from each pose."""
    rng = np.random.default_rng(seed)
    for i, pose in enumerate(poses):
        ranges = cast_beams(np.array(segments), np.repeat(np.asarray(pose)[None], lidar.beams, axis=0), lidar)
        ranges = ranges + noise * rng.normal(size=lidar.beams)
        yield Scan(0.1 * i, np.where(ranges < lidar.farthest, ranges, np.inf).astype(np.float32))


class Lines(unittest.TestCase):
    def test_their_normals_are_as_sure_as_so_many_points_on_a_wall_can_make_them(self):
        rng, spacing, noise = np.random.default_rng(0), 0.02, 0.004
        places = spacing * np.arange(-2000, 2001)
        points = np.column_stack([5.0 + noise * rng.normal(size=len(places)), places])
        for longer in (1.0, 1.5):
            lines = fit_lines(points, np.full(len(points), 0.21), longer)[50:-50]
            off = np.arctan(lines[:, 3] / lines[:, 2])
            # The slope of a least-squares line; neighbours within the reach lie so far to each side.
            apart = spacing * np.arange(1, int(0.21 * longer / spacing) + 1)
            with self.subTest(longer=longer):
                self.assertAlmostEqual(off.std() / (noise / np.sqrt(2.0 * np.sum(apart**2))), 1.0, delta=0.05)

    def test_near_a_corner_they_reach_no_farther_than_the_wall_is_straight(self):
        beside = np.arange(0.02, 1.0, 0.02)
        walls = [np.column_stack([0.0 * beside + 3.0, -beside[::-1]]), np.column_stack([3.0 - beside, 0.0 * beside])]
        points = np.vstack(walls)
        longer, shorter = (fit_lines(points, np.full(len(points), 0.2), times) for times in (1.5, 1.0))
        straight = np.hypot(*shorter[:, 2:4].T) > 0.5
        self.assertTrue(np.all(np.hypot(*longer[straight, 2:4].T) > 0.5))
        self.assertGreater(np.count_nonzero(np.all(longer[straight] == shorter[straight], axis=1)), 1)


class OnARun(unittest.TestCase):
    def test_scans_alone_stay_within_half_a_percent_and_know_their_error(self):
        run = dry_run()
        track, motions = laser_track(run)
        error = compare_tracks(track.moved_to(run.truth.poses[0]), run.truth)
        self.assertLess(error.position[-1], 0.005 * run.truth.length)
        self.assertLess(abs(error.heading[-1]), np.radians(2.0))
        self.assertTrue(np.all(np.linalg.eigvalsh(track.covariances) > -1e-12))
        true, reference, squares = run.truth.at(track.t), 0, []
        for i, motion in enumerate(motions):
            if i != reference:
                off = motion.since_reference - relative(true[i], true[reference])
                off[2] = wrap_angle(off[2])
                squares.append(off @ np.linalg.solve(motion.covariance, off))
            reference = i if motion.is_reference else reference
        # Three numbers: 3 is what their normalised square should be on average.
        self.assertGreater(np.mean(squares), 1.5)
        self.assertLess(np.mean(squares), 4.5)
        speeds = np.array([motion.velocity[0] for motion in motions])
        moved = np.array([relative(*run.truth.at([t + 0.075, t])) for t in track.t])[:, 0] / 0.075
        self.assertLess(np.sqrt(np.mean((speeds - moved)[1:-1] ** 2)), 0.06)

    def test_headings_are_truer_where_a_gyro_tells_how_the_robot_turned(self):
        steps = {False: [], True: []}
        for run in (dry_run(), loop_run()):
            led_by = fuse(run, sources=["imu", "wheels"]).track
            for told, of_half_a_second in steps.items():
                off = compare_tracks(laser_track(run, led_by=led_by, turns_told=told)[0], run.truth).heading
                # Where the heading drifts to in the end is one throw of a run; its steps are hundreds.
                of_half_a_second.append(off[5:] - off[:-5])
                if told:
                    self.assertLess(np.sqrt(np.mean(np.square(off - off[0]))), np.radians(0.15))
        alone, told = (np.sqrt(np.mean(np.square(np.concatenate(parts)))) for parts in steps.values())
        self.assertLess(told, 0.8 * alone)
        self.assertLess(told, np.radians(0.04))

    def test_a_turn_that_begins_during_a_sweep_turns_no_scan(self):
        lidar, harder = robot().scanner, 2.0
        room = np.array([[-2, -3, 5, -3], [5, -3, 5, 2], [5, 2, -2, 2], [-2, 2, -2, -3]], float)
        period, off = 1.0 / lidar.rate, {}
        for told in (0.0, harder):
            laser = LaserOdometry(lidar)
            for begin in (-period, 0.0, period):
                fired = np.maximum(begin + lidar.beam_delays, 0.0)
                poses = np.column_stack([np.zeros((lidar.beams, 2)), 0.5 * harder * fired**2])
                begun, over = np.maximum([begin, begin + period], 0.0)
                scan = Scan(begin, cast_beams(room, poses, lidar).astype(np.float32))
                motion = laser.update(
                    scan,
                    velocity=[0.0, 0.0, 0.5 * harder * max(begin, 0.0)],
                    turn_rate=0.5 * harder * (over + begun),
                    turn_acceleration=told if over > 0.0 else 0.0,
                )
                off[told] = max(off.get(told, 0.0), abs(motion.pose[2] - 0.5 * harder * begun**2))
        # The mean of a parabola beside its chord, over a sweep that takes this share of the period.
        self.assertGreater(off[0.0], 0.5 * harder * lidar.beam_delays[-1] ** 2 / 12.0)
        self.assertLess(off[harder], 0.3 * off[0.0])

    def test_the_mount_carries_the_motion_to_the_body(self):
        # In its own frame the scanner, 0.42 m ahead, swings sideways as the robot turns; the body must not.
        run = dry_run()
        first = 400
        part = Track(run.scans.t[:first], run.scans.t[:first, None] * np.zeros(3))
        scans = Scans(run.scans.t[:first], run.scans.ranges[:first])
        short = type(run)(run.robot, run.start, scans=scans)
        off = {
            name: compare_tracks(laser_track(short, mount=mount)[0].moved_to(run.truth.poses[0]), run.truth).position[
                -1
            ]
            for name, mount in (("mounted", None), ("at the origin", np.zeros(3)))
        }
        self.assertEqual(len(part), first)
        self.assertLess(off["mounted"], 0.12)
        self.assertGreater(off["at the origin"], off["mounted"] + 0.1)


class Degenerate(unittest.TestCase):
    def test_a_long_plain_aisle_is_told_and_the_speed_kept_up(self):
        lidar = altered_robot(robot(), lidar={"first_beam_deg": -120.0, "last_beam_deg": 120.0}).scanner
        room = [[-3.0, -1.0, 60.0, -1.0], [-3.0, 1.0, 60.0, 1.0], [-3.0, -1.0, -3.0, 1.0]]
        end = [20.0, -1.0, 20.0, 1.0]
        poses = [[16.0 + 0.05 * i, 0.1, 0.05] for i in range(10)]
        laser = LaserOdometry(lidar)
        with_end = [laser.update(scan) for scan in scans_between([*room, end], poses, lidar, noise=0.005)]
        self.assertTrue(all(motion.degenerate is None for motion in with_end))
        poses = [[20.0 + 0.05 * i, 0.1, 0.05] for i in range(8)]
        laser = LaserOdometry(lidar)
        for i, scan in enumerate(scans_between(room, poses, lidar, noise=0.005)):
            motion = laser.update(scan)
            if i:
                self.assertIsNotNone(motion.degenerate)
                np.testing.assert_allclose(np.abs(motion.degenerate), [np.cos(0.05), np.sin(0.05)], atol=0.05)
                self.assertGreater(motion.covariance[0, 0], 0.5)
                self.assertLess(motion.covariance[1, 1], 0.01)

    def test_nothing_to_see_is_told_and_does_no_harm(self):
        lidar = robot().scanner
        laser = LaserOdometry(lidar)
        for i in range(3):
            motion = laser.update(Scan(0.1 * i, np.full(lidar.beams, np.inf, np.float32)))
        np.testing.assert_array_equal(motion.pose, 0.0)
        self.assertEqual(motion.matched_share, 0.0)


if __name__ == "__main__":
    unittest.main()
