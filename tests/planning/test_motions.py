import unittest

import numpy as np
from benchmarks.curve_search import dubins_words, reeds_shepp_words, shortest_length

from tests.support import altered_robot, assert_input_error, robot
from vinecompass import DubinsMotion, ReedsSheppMotion, Robot
from vinecompass.geometry import wrap_angle
from vinecompass.planning import StraightMotion, usual_motion


class LeftTurnsOnly(DubinsMotion):
    words = ("LSL",)


def random_pairs(count, seed=1, reach=4.0):
    rng = np.random.default_rng(seed)
    return np.column_stack([rng.uniform(-reach, reach, (2 * count, 2)), rng.uniform(-np.pi, np.pi, 2 * count)]).reshape(
        2, count, 3
    )


def car():
    drive = {
        "kind": "car",
        "wheel_radius": 0.11,
        "track_width": 0.54,
        "wheelbase": 0.8,
        "turning_radius": 1.1,
        "top_speed": 1.1,
        "reverse_speed": 0.4,
        "top_turn_rate": 1.4,
        "acceleration": 0.7,
        "braking": 1.1,
        "turn_acceleration": 2.4,
    }
    return Robot.model_validate(robot().model_dump(exclude_none=True) | {"drive": drive})


class CurvesAgainstNewtonsMethod(unittest.TestCase):
    def test_lengths_are_the_least_that_any_word_has(self):
        rng = np.random.default_rng(2)
        _, goals = random_pairs(70)
        for name, motion, words, forward, guesses in (
            ("Dubins", DubinsMotion(1.0), dubins_words(), True, rng.uniform(0.0, 6.2, (30, 3))),
            ("Reeds-Shepp", ReedsSheppMotion(1.0), reeds_shepp_words(), False, rng.uniform(-3.0, 3.0, (30, 3))),
            ("left only", LeftTurnsOnly(1.0), dubins_words()[:1], True, rng.uniform(0.0, 6.2, (30, 3))),
        ):
            lengths = motion.lengths(np.zeros(3), goals)
            for goal, length in zip(goals, lengths, strict=True):
                found = shortest_length(goal, words, guesses, forward=forward)
                with self.subTest(motion=name, goal=goal):
                    self.assertLess(length, found + 1e-6, "nothing shorter is found numerically")
                    if np.isfinite(found):
                        self.assertLess(found, length + 1e-6, "and what is found is as long")

    def test_poses_end_at_the_goal_and_bend_no_sharper_than_allowed(self):
        starts, goals = random_pairs(200, seed=3)
        for motion in (DubinsMotion(0.8), ReedsSheppMotion(0.8), LeftTurnsOnly(0.8)):
            lengths = motion.lengths(starts, goals)
            for start, goal, length in zip(starts, goals, lengths, strict=True):
                poses = motion.poses(start, goal, 0.02)
                steps = np.diff(poses[:, :2], axis=0)
                way, turn = np.hypot(*steps.T), wrap_angle(np.diff(poses[:, 2]))
                middle = poses[:-1, 2] + 0.5 * turn
                ahead = steps[:, 0] * np.cos(middle) + steps[:, 1] * np.sin(middle)
                with self.subTest(motion=type(motion).__name__, goal=goal):
                    np.testing.assert_allclose(poses[0], start, atol=1e-12)
                    np.testing.assert_allclose(poses[-1, :2], goal[:2], atol=1e-9)
                    self.assertAlmostEqual(float(wrap_angle(poses[-1, 2] - goal[2])), 0.0, places=9)
                    self.assertAlmostEqual(way.sum(), length, delta=1e-3 * length + 1e-9)
                    # A chord is a little shorter than its arc, and never sideways.
                    self.assertTrue(np.all(np.abs(turn) <= way / 0.8 * 1.001 + 1e-9))
                    np.testing.assert_allclose(np.abs(ahead), way, atol=1e-9)
                    if isinstance(motion, DubinsMotion):
                        self.assertTrue(np.all(ahead >= -1e-12), "forward only")
                    if isinstance(motion, LeftTurnsOnly):
                        self.assertTrue(np.all(turn >= -1e-12))

    def test_closed_forms_and_symmetry(self):
        cases = (
            (DubinsMotion(2.0), [0, 0, 0], [5, 0, 0], 5.0),
            (DubinsMotion(2.0), [0, 0, 0], [0, 4, np.pi], 2.0 * np.pi),
            (LeftTurnsOnly(1.0), [0, 0, 0], [1, 1, -1.5 * np.pi], 0.5 * np.pi),
            (ReedsSheppMotion(2.0), [1, 1, 0.3], [1, 1, 0.3], 0.0),
            (ReedsSheppMotion(1.0), [0, 0, 0], [-3, 0, 0], 3.0),
            (StraightMotion(), [1, 1, 0], [4, 5, 2], 5.0),
        )
        for motion, start, goal, length in cases:
            self.assertAlmostEqual(float(motion.lengths(start, goal)[0]), length, places=9)
        starts, goals = random_pairs(300, seed=4)
        both_ways = ReedsSheppMotion(1.0)
        np.testing.assert_allclose(both_ways.lengths(starts, goals), both_ways.lengths(goals, starts), atol=1e-9)
        self.assertTrue(np.all(both_ways.lengths(starts, goals) <= DubinsMotion(1.0).lengths(starts, goals) + 1e-9))

    def test_what_a_drive_can_do_and_what_is_no_motion(self):
        self.assertIsInstance(usual_motion(robot()), StraightMotion)
        self.assertIsInstance(usual_motion(car()), ReedsSheppMotion)
        self.assertIs(type(usual_motion(altered_robot(car(), drive={"reverse_speed": 0.0}))), DubinsMotion)
        assert_input_error(self, lambda: DubinsMotion(0.0), "radius", "above 0")
        assert_input_error(self, lambda: ReedsSheppMotion(np.nan), "radius")

        class Wrong(DubinsMotion):
            words = ("LSL", "LXL")

        assert_input_error(self, lambda: Wrong(1.0), "'LXL'", "LSL, LSR")


if __name__ == "__main__":
    unittest.main()
