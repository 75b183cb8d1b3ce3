import unittest

import numpy as np
from scipy.optimize import approx_fprime, minimize

from vinecompass.geometry import relative
from vinecompass.mapping.link_fit import MeasuredLinks, best_poses


def made_links(rng, poses, count):
    """Links between random pairs of poses, measured with noise of their own."""
    pairs = np.array([rng.choice(len(poses), 2, replace=False) for _ in range(count)])
    pairs = np.concatenate([pairs, np.column_stack([np.arange(len(poses) - 1), np.arange(1, len(poses))])])
    origin, target = pairs.T
    roots = rng.normal(size=(len(pairs), 3, 3)) + 4.0 * np.eye(3)
    noise = rng.normal(scale=0.05, size=(len(pairs), 3))
    measured = relative(poses[target], poses[origin]) + noise
    return MeasuredLinks(origin, target, measured, roots @ roots.transpose(0, 2, 1))


class AgainstGeneralSolvers(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(2)
        self.poses = rng.uniform([-5, -5, -3], [5, 5, 3], (7, 3))
        self.links = made_links(rng, self.poses, 12)
        self.near = self.poses + rng.normal(scale=0.02, size=self.poses.shape) * (np.arange(7) > 0)[:, None]

    def cost(self, values):
        """What all links miss by, with the poses after the first flat in one row."""
        return float(np.sum(self.links.squares(np.vstack([self.poses[:1], np.reshape(values, (-1, 3))]))))

    def test_the_normal_equations_are_the_slope_and_the_curve_of_the_cost(self):
        matrix, right = self.links.normal_equations(self.near)
        slope = approx_fprime(self.near[1:].ravel(), self.cost, 1e-7)
        np.testing.assert_allclose(right, -0.5 * slope, rtol=1e-3, atol=1e-3)
        # To first order each error is linear in the poses: the matrix is that of their squares.
        moved = np.random.default_rng(3).normal(scale=1e-6, size=right.shape)
        errors, after = (
            self.links.errors(np.vstack([self.near[:1], (self.near[1:].ravel() + step).reshape(-1, 3)]))
            for step in (0.0, moved)
        )
        change = np.einsum("li,lij,lj->", after - errors, self.links.information, after - errors)
        self.assertAlmostEqual(moved @ (matrix @ moved) / change, 1.0, places=4)

    def test_the_poses_found_are_those_that_a_general_minimiser_finds(self):
        found = best_poses(self.links, self.near.copy(), most_steps=30)
        np.testing.assert_array_equal(found[0], self.poses[0])
        wanted = minimize(self.cost, self.near[1:].ravel(), method="BFGS", options={"gtol": 1e-6})
        self.assertLess(self.cost(found[1:].ravel()), wanted.fun * (1.0 + 1e-6))
        np.testing.assert_allclose(found[1:].ravel(), wanted.x, atol=1e-3)

    def test_a_link_of_no_weight_says_nothing(self):
        weights = np.ones(len(self.links.origin))
        weights[0] = 0.0
        errors = self.links.squares(self.near)
        np.testing.assert_allclose(self.links.weighted(weights).squares(self.near), errors * weights)


if __name__ == "__main__":
    unittest.main()
