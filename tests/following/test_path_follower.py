import unittest

import numpy as np

from tests.support import assert_input_error, robot
from vinecompass import Command, PathFollower
from vinecompass.geometry import arc, compose, resample_polyline, wrap_angle


def path_through(corners, last_heading):
    points = resample_polyline(corners, 0.1)
    ahead = np.diff(points, axis=0)
    return np.column_stack([points, np.append(np.arctan2(ahead[:, 1], ahead[:, 0]), last_heading)])


def follow(poses, start, gaps=None, most=900):
    """Let an ideal robot follow a path; return poses, commands and the follower."""
    follower, pose, command = PathFollower(robot()), np.array(start, dtype=float), Command()
    follower.follow(poses, gaps)
    track, commands = [pose], [command]
    while follower.phase != "arrived" and len(track) < most:
        command = follower.step(pose, command, 0.1)
        pose = compose(pose, arc([command.speed, 0.0, command.turn_rate], 0.1))
        track.append(pose)
        commands.append(command)
    return np.array(track), commands, follower


class Following(unittest.TestCase):
    def test_it_arrives_position_first_and_then_heading_from_any_side(self):
        for corners, start, last in (
            ([(0, 0), (5, 0)], [0, 0, 0], 1.0),
            ([(0, 0), (3, 0), (3, 3)], [0, 0, np.pi], -2.0),
            ([(0, 0), (0.2, 0)], [0, 0, np.pi / 2], 0.0),
            ([(0, 0), (4, 2), (6, -1), (2, -2)], [0.1, -0.1, 2.0], 3.0),
        ):
            with self.subTest(corners=corners):
                poses = path_through(np.array(corners, dtype=float), last)
                track, _, follower = follow(poses, start)
                self.assertEqual(follower.phase, "arrived")
                self.assertLess(np.hypot(*(track[-1] - poses[-1])[:2]), 0.06)
                self.assertLess(abs(wrap_angle(track[-1, 2] - last)), np.radians(2.0))
                close = np.hypot(*(track - poses[-1])[:, :2].T) < 0.06
                self.assertLess(np.ptp(track[np.argmax(close) :, 0]), 0.12)

    def test_it_stays_on_the_path_and_within_the_limits(self):
        poses = path_through(np.array([[0.0, 0.0], [4.0, 0.0], [6.0, 2.0], [10.0, 2.0]]), 0.0)
        track, commands, _ = follow(poses, [0.0, 0.0, 0.0])
        off = [np.hypot(*(poses[:, :2] - pose[:2]).T).min() for pose in track]
        self.assertLess(max(off), 0.2)
        drive = robot().drive
        speeds, turns = np.array([(c.speed, c.turn_rate) for c in commands]).T
        self.assertLessEqual(np.abs(turns).max(), drive.top_turn_rate)
        self.assertLessEqual(np.diff(speeds).max(), 0.1 * drive.acceleration + 1e-9)
        self.assertGreaterEqual(np.diff(speeds).min(), -0.1 * drive.braking - 1e-9)
        self.assertAlmostEqual(speeds.max(), 0.9, places=2)

    def test_beside_obstacles_it_slows_down(self):
        poses = path_through(np.array([[0.0, 0.0], [6.0, 0.0]]), 0.0)
        _, roomy, _ = follow(poses, [0.0, 0.0, 0.0])
        _, tight, _ = follow(poses, [0.0, 0.0, 0.0], gaps=np.full(len(poses), 0.1))
        self.assertGreater(max(c.speed for c in roomy), 0.85)
        self.assertAlmostEqual(max(c.speed for c in tight), 0.3 + 0.6 * 0.1 / 0.5, places=2)

    def test_pushed_away_after_arriving_it_closes_in_again(self):
        poses = path_through(np.array([[0.0, 0.0], [2.0, 0.0]]), 0.0)
        track, _, follower = follow(poses, [0.0, 0.0, 0.0])
        pose, command = track[-1] + [0.3, 0.2, 0.0], Command()
        for _ in range(300):
            command = follower.step(pose, command, 0.1)
            pose = compose(pose, arc([command.speed, 0.0, command.turn_rate], 0.1))
        self.assertEqual(follower.phase, "arrived")
        self.assertLess(np.hypot(*(pose - poses[-1])[:2]), 0.06)

    def test_a_path_of_one_pose_is_a_turn_and_one_of_none_is_refused(self):
        track, _, follower = follow(np.array([[0.0, 0.0, 2.0]]), [0.0, 0.0, 0.0])
        self.assertEqual(follower.phase, "arrived")
        self.assertAlmostEqual(track[-1, 2], 2.0, delta=np.radians(2.0))
        assert_input_error(self, lambda: PathFollower(robot()).follow(np.zeros((0, 3))), "poses", "no pose")


if __name__ == "__main__":
    unittest.main()
