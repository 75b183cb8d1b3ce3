import unittest

import numpy as np
import shapely
from scipy.linalg import expm

from vinecompass import Grid
from vinecompass.geometry import (
    arc,
    compose,
    compose_covariances,
    distance_along,
    interpolate_poses,
    inverse,
    inverse_covariance,
    relative,
    resample_polyline,
    transform_points,
    wrap_angle,
)


def matrix(pose):
    x, y, heading = pose
    cosine, sine = np.cos(heading), np.sin(heading)
    return np.array([[cosine, -sine, x], [sine, cosine, y], [0.0, 0.0, 1.0]])


class PosesAgainstMatrices(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(1)
        self.poses = np.column_stack([rng.normal(size=(50, 2)) * 10.0, rng.uniform(-np.pi, np.pi, 50)])

    def test_compose_inverse_and_relative(self):
        for a, b in zip(self.poses, self.poses[::-1], strict=True):
            for result, wanted in (
                (compose(a, b), matrix(a) @ matrix(b)),
                (inverse(a), np.linalg.inv(matrix(a))),
                (relative(a, b), np.linalg.inv(matrix(b)) @ matrix(a)),
            ):
                np.testing.assert_allclose(matrix(result), wanted, atol=1e-9)

    def test_a_stack_is_composed_like_its_members(self):
        together = compose(self.poses, self.poses[::-1])
        one_by_one = [compose(a, b) for a, b in zip(self.poses, self.poses[::-1], strict=True)]
        np.testing.assert_array_equal(together, one_by_one)

    def test_points_are_carried_like_poses(self):
        points = self.poses[:, :2]
        homogeneous = np.column_stack([points, np.ones(len(points))])
        wanted = (matrix(self.poses[0]) @ homogeneous.T).T[:, :2]
        np.testing.assert_allclose(transform_points(self.poses[0], points), wanted, atol=1e-9)

    def test_arc_is_the_matrix_exponential(self):
        for velocity in ([1.0, 0.2, 0.7], [1.0, 0.0, 0.0], [0.0, 0.0, 3.0], [-0.5, 0.1, -1e-9]):
            with self.subTest(velocity=velocity):
                vx, vy, turn = velocity
                wanted = expm(0.8 * np.array([[0.0, -turn, vx], [turn, 0.0, vy], [0.0, 0.0, 0.0]]))
                np.testing.assert_allclose(matrix(arc(velocity, 0.8)), wanted, atol=1e-12)


class ManyPoints(unittest.TestCase):
    def test_rows_of_points_are_carried_as_each_of_them_is(self):
        points = np.random.default_rng(7).normal(size=(3, 5, 2))
        pose, grid = [1.0, -2.0, 0.7], Grid(np.zeros((4, 6), np.float32), 0.5, (1.0, 2.0), 0.3)
        for call in (lambda each: transform_points(pose, each), grid.cells_at, grid.points_of):
            np.testing.assert_array_equal(call(points), np.stack([call(row) for row in points]))
            np.testing.assert_array_equal(call(points[0, 0]), call(points[0])[0])


class CovariancesAgainstDraws(unittest.TestCase):
    def setUp(self):
        rng = np.random.default_rng(5)
        self.poses = rng.uniform([-3, -3, -np.pi], [3, 3, np.pi], (2, 3))
        roots = rng.normal(scale=0.01, size=(2, 3, 3))
        self.covariances = roots @ roots.transpose(0, 2, 1)
        self.draws = [
            pose + rng.multivariate_normal(np.zeros(3), covariance, 100_000)
            for pose, covariance in zip(self.poses, self.covariances, strict=True)
        ]

    def assert_spread(self, poses, covariance):
        """Check that drawn poses spread as told, to what so many draws can tell: a square of deviations to 2 %."""
        spread = np.cov((poses - poses[0] - [0, 0, 1] * (np.round((poses - poses[0]) / (2 * np.pi)) * 2 * np.pi)).T)
        scale = np.sqrt(np.outer(np.diag(covariance), np.diag(covariance)))
        self.assertLess(np.abs((spread - covariance) / scale).max(), 0.02)

    def test_of_one_pose_after_another(self):
        told = compose_covariances(*self.poses, *self.covariances)
        self.assert_spread(compose(*self.draws), told)
        both = compose_covariances(self.poses, self.poses[::-1], self.covariances, self.covariances[::-1])
        np.testing.assert_allclose(both[0], told)

    def test_of_the_way_back(self):
        self.assert_spread(inverse(self.draws[0]), inverse_covariance(self.poses[0], self.covariances[0]))

    def test_of_there_and_back_again(self):
        again = inverse_covariance(inverse(self.poses[0]), inverse_covariance(self.poses[0], self.covariances[0]))
        np.testing.assert_allclose(again, self.covariances[0], rtol=1e-9, atol=1e-15)


class Angles(unittest.TestCase):
    def test_wrapping_keeps_the_direction_and_the_half_open_interval(self):
        angles = np.linspace(-20.0, 20.0, 4001)
        wrapped = wrap_angle(angles)
        np.testing.assert_allclose(np.exp(1j * wrapped), np.exp(1j * angles), atol=1e-12)
        self.assertTrue(np.all((wrapped > -np.pi) & (wrapped <= np.pi)))

    def test_interpolation_turns_the_short_way_and_stays_put_beyond_the_ends(self):
        poses = [[0.0, 0.0, 3.0], [1.0, 2.0, -3.0]]
        middle, before, after = interpolate_poses([1.0, -5.0, 9.0], [0.0, 2.0], poses)
        np.testing.assert_allclose(middle[:2], [0.5, 1.0])
        self.assertAlmostEqual(abs(middle[2]), np.pi, places=9)
        np.testing.assert_allclose([before, after], poses)
        np.testing.assert_allclose(interpolate_poses([4.0], [0.0], poses[:1]), poses[:1])


class PolylinesAgainstShapely(unittest.TestCase):
    def test_length_and_even_spacing(self):
        points = np.random.default_rng(2).normal(size=(9, 2))
        line = shapely.LineString(points)
        self.assertAlmostEqual(distance_along(points)[-1], line.length, places=12)
        even = resample_polyline(points, 0.1)
        wanted = [line.interpolate(share, normalized=True).coords[0] for share in np.linspace(0.0, 1.0, len(even))]
        np.testing.assert_allclose(even, wanted, atol=1e-9)
        self.assertLessEqual(line.length / (len(even) - 1), 0.1)


if __name__ == "__main__":
    unittest.main()
