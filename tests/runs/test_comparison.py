import unittest

import numpy as np

from vinecompass import Track, compare_relations, compare_tracks
from vinecompass.geometry import compose


def lap(seed=None, spread=0.0):
    """A lap of twenty metres round a circle and a half more, a pose every 0.1 m."""
    angles = np.arange(0.0, 3.0 * np.pi, 0.1 * 2.0 * np.pi / 20.0)
    radius = 20.0 / (2.0 * np.pi)
    poses = np.column_stack([radius * np.cos(angles), radius * np.sin(angles), angles + np.pi / 2.0])
    if seed is not None:
        poses[:, :2] += np.random.default_rng(seed).normal(scale=spread, size=(len(poses), 2))
    return Track(0.1 * np.arange(len(poses)), poses)


class Relations(unittest.TestCase):
    def test_where_the_whole_track_lies_does_not_count(self):
        true = lap()
        moved = Track(true.t, compose([5.0, -3.0, 0.7], true.poses))
        relation = compare_relations(moved, true)
        self.assertLess(max(relation.position, relation.heading, relation.aligned_rmse), 1e-9)
        self.assertGreater(compare_tracks(moved, true).position_rmse, 3.0)

    def test_noise_of_a_known_size_is_measured(self):
        relation = compare_relations(lap(seed=1, spread=0.02), lap())
        # The mean length of the difference of two errors of 0.02 m: a Rayleigh distribution with sqrt(2) * 0.02.
        self.assertAlmostEqual(relation.position, np.sqrt(np.pi / 2.0) * np.sqrt(2.0) * 0.02, delta=0.003)
        self.assertAlmostEqual(relation.aligned_rmse, np.sqrt(2.0) * 0.02, delta=0.002)

    def test_a_place_seen_twice_and_mapped_to_two_counts(self):
        true = lap()
        drifted = true.poses.copy()
        drifted[200:, 0] += 0.5
        relation = compare_relations(Track(true.t, drifted), true)
        self.assertGreater(relation.relations, 60)
        self.assertGreater(relation.position, 0.1)


if __name__ == "__main__":
    unittest.main()
