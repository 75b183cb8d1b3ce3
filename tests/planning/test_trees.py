import unittest

import numpy as np

from vinecompass.geometry import wrap_angle
from vinecompass.planning.trees.kernels import near_nodes
from vinecompass.planning.trees.star_tree import TreeArrays

SHAPE = (60, 90)
"""Rows and columns of the grid that nodes lie on."""


class Squares(unittest.TestCase):
    def test_nodes_nearby_are_those_that_a_look_at_all_finds_whatever_the_squares(self):
        rng = np.random.default_rng(4)
        poses = rng.uniform([0, 0, -np.pi], [SHAPE[1], SHAPE[0], np.pi], (800, 3))
        tree = TreeArrays.rooted(poses[0], len(poses))
        tree.poses[:] = poses
        for side in (1.0, 4.3, 25.0):
            filed = tree.in_squares(side, SHAPE, 700)
            for reach, arm in ((0.5, 0.0), (6.0, 0.0), (30.0, 0.0), (12.0, 9.0)):
                for pose in poses[690:710]:
                    with self.subTest(side=side, reach=reach, arm=arm):
                        away = poses[:700] - pose
                        turned = arm * wrap_angle(away[:, 2])
                        wanted = np.flatnonzero(np.hypot(np.hypot(away[:, 0], away[:, 1]), turned) <= reach)
                        found = near_nodes(filed.poses, filed.squares, filed.following, side, pose, reach, arm)
                        self.assertEqual(sorted(found.tolist()), wanted.tolist())


if __name__ == "__main__":
    unittest.main()
