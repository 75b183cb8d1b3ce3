import unittest
from itertools import pairwise

import numpy as np
from scipy.optimize import least_squares

from vinecompass.geometry import compose, relative, wrap_angle
from vinecompass.mapping import PoseGraph

INFORMATION = np.diag([1.0 / 0.03, 1.0 / 0.03, 1.0 / np.radians(0.5)]) ** 2


def rounds(seed, laps=4, sides=12, false_share=0.0):
    """The true poses of a drive round and round, and a graph of noisy links and loops, some of them false."""
    rng = np.random.default_rng(seed)
    step = np.array([1.5, 0.0, 2.0 * np.pi / sides])
    true = [np.array([1.0, 2.0, 0.3])]
    for _ in range(laps * sides):
        true.append(compose(true[-1], step))
    true = np.array(true)
    spreads = [0.03, 0.03, np.radians(0.5)]
    graph = PoseGraph(true[0])
    for before, after in pairwise(true):
        graph.extend(compose(relative(after, before), rng.normal(scale=spreads)), INFORMATION)
    loops = [(i, j) for i in range(len(true)) for j in range(i + sides, len(true), sides)]
    other = np.random.default_rng(100 + seed)
    for number, (i, j) in enumerate(loops):
        graph.close(i, j, compose(relative(true[j], true[i]), rng.normal(scale=spreads)), INFORMATION)
        if number < false_share * len(loops):
            a, b = other.integers(len(true), size=2)
            graph.close(int(a), int(b), other.uniform([-4, -4, -np.pi], [4, 4, np.pi]), INFORMATION)
    return true, graph


def rmse(graph, true):
    return float(np.sqrt(np.mean(np.sum((graph.poses - true)[:, :2] ** 2, axis=1))))


class Optimum(unittest.TestCase):
    def test_it_is_the_one_that_a_general_solver_finds(self):
        true, graph = rounds(1, laps=2, sides=6)
        links = [(link.origin, link.target, link.pose, link.information) for link in graph.links]

        def residuals(values):
            poses = np.vstack([true[0], values.reshape(-1, 3)])
            parts = []
            for origin, target, pose, information in links:
                off = relative(poses[target], poses[origin]) - pose
                off[2] = wrap_angle(off[2])
                parts.append(np.sqrt(np.diag(information)) * off)
            return np.concatenate(parts)

        solved = least_squares(residuals, graph.poses[1:].ravel(), x_scale="jac", xtol=1e-12, ftol=1e-12)
        wanted = solved.x
        squares = residuals(wanted) @ residuals(wanted)
        graph.optimize()
        np.testing.assert_array_equal(graph.poses[0], true[0])
        # True loops count a little less than fully, so the sum of squares is all but the least.
        self.assertLess(residuals(graph.poses[1:].ravel()) @ residuals(graph.poses[1:].ravel()), 1.1 * squares)
        off = graph.poses[1:] - wanted.reshape(-1, 3)
        self.assertLess(np.hypot(off[:, 0], off[:, 1]).max(), 0.02)
        inverse = np.linalg.inv(solved.jac.T @ solved.jac)
        covariances = np.array([inverse[i : i + 3, i : i + 3] for i in range(0, len(inverse), 3)])
        np.testing.assert_allclose(graph.covariances()[1:], covariances, rtol=0.2, atol=1e-5)
        np.testing.assert_array_equal(graph.covariances()[0], np.zeros((3, 3)))

    def test_loops_take_the_drift_out(self):
        for seed in range(3):
            with self.subTest(seed=seed):
                true, graph = rounds(seed)
                before = rmse(graph, true)
                graph.optimize()
                self.assertLess(rmse(graph, true), 0.4 * before)

    def test_a_fifth_of_the_loops_false_changes_the_result_by_less_than_a_tenth(self):
        for seed in range(5):
            with self.subTest(seed=seed):
                true, graph = rounds(seed)
                _, spoilt = rounds(seed, false_share=0.25)
                false = len(spoilt.links) - len(graph.links)
                self.assertGreaterEqual(false / sum(link.is_loop for link in spoilt.links), 0.195)
                graph.optimize()
                spoilt.optimize()
                self.assertLess(rmse(spoilt, graph.poses), 0.1 * rmse(graph, true))
                self.assertGreaterEqual(np.sum(spoilt.weights < 0.05), false - 1)

    def test_a_loop_that_was_outvoted_is_heard_again_when_another_says_the_same(self):
        graph = PoseGraph([0.0, 0.0, 0.0])
        for _ in range(20):
            graph.extend([1.0, 0.0, 0.0], INFORMATION)
        shorter, as_driven = (0, 20, [19.0, 0.0, 0.0], INFORMATION), (0, 10, [10.0, 0.0, 0.0], INFORMATION)
        ends, weights = [], []
        for loop in (shorter, as_driven, as_driven, shorter, shorter, shorter):
            graph.close(*loop)
            graph.optimize()
            ends.append(graph.poses[-1, 0])
            weights.append(graph.weights[20])
        # Alone it bends the drive by a metre; two that contradict it straighten the drive, three more bend it again.
        self.assertLess(ends[0], 19.2)
        self.assertGreater(min(ends[1:3]), 19.9)
        self.assertLess(max(weights[1:3]), 0.01)
        self.assertLess(ends[-1], 19.1)
        self.assertGreater(weights[-1], 0.5)

    def test_the_shortest_ways_follow_the_loops(self):
        graph = PoseGraph([0.0, 0.0, 0.0])
        for _ in range(5):
            graph.extend([1.0, 0.0, 0.0], INFORMATION)
        graph.close(0, 4, [4.0, 0.0, 0.0], INFORMATION)
        np.testing.assert_allclose(graph.ways(0, [1.0] * 5, 0.5), [0.0, 1.0, 2.0, 1.5, 0.5, 1.5])
        graph.carry(graph.agreeing(4)[0])
        np.testing.assert_allclose(graph.ways(0, [1.0] * 5, 0.5), [0.0, 1.0, 2.0, 1.5, 0.5, 1.5])

    def test_poses_of_a_place_known_already_ride_on_it_and_the_graph_stays_small(self):
        for seed in range(3):
            with self.subTest(seed=seed):
                true, whole = rounds(seed)
                whole.optimize()
                _, graph = rounds(seed)
                graph.optimize()
                before = graph.poses.copy()
                self.assertEqual(graph.agreeing(5), [])
                for number in range(13, len(true) - 1):
                    for loop in graph.agreeing(number)[:1]:
                        graph.carry(loop)
                np.testing.assert_allclose(graph.poses, before)
                self.assertLess(np.count_nonzero(~graph.rides), 17)
                self.assertLess(len(graph.links), 30)
                graph.optimize()
                self.assertLess(rmse(graph, true), 1.5 * rmse(whole, true))
                spread, of_whole = (np.sqrt(one.covariances()[6, :2, :2].trace()) for one in (graph, whole))
                self.assertTrue(0.9 < spread / of_whole < 1.3)
                # What moves the place moves all that ride there, and the doubt of these is its own and a little more.
                doubt = graph.covariances()[[6, 18, 30], 0, 0]
                self.assertLess(doubt[0], doubt[1:].min())
                seen = relative(graph.poses[18], graph.poses[6])
                graph.close(0, 6, compose(relative(graph.poses[6], graph.poses[0]), [0.2, 0.0, 0.0]), 9.0 * INFORMATION)
                graph.optimize()
                self.assertGreater(np.hypot(*(graph.poses[6] - before[6])[:2]), 0.02)
                np.testing.assert_allclose(relative(graph.poses[18], graph.poses[6]), seen, atol=1e-9)


if __name__ == "__main__":
    unittest.main()
