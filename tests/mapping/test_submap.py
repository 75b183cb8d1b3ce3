import unittest

import numpy as np

from vinecompass.grids import Beams
from vinecompass.mapping.submap import Keyframe, Submap
from vinecompass.matching import WallGrid


class SidesOfAWall(unittest.TestCase):
    def setUp(self):
        """From the origin, beams on a wall at x = 2 m; its other side lies 0.1 m behind."""
        angles = np.radians(np.arange(-55.0, 55.5, 0.5))
        ends = (2.0 / np.cos(angles))[:, None] * np.column_stack([np.cos(angles), np.sin(angles)])
        self.submap = Submap(0.0, 0.0, 0.0, WallGrid([-6.0, -6.0], [6.0, 6.0], cell_size=0.05, spread=0.08))
        for turn in (0.0, 0.8):
            c, s = np.cos(turn), np.sin(turn)
            seen = (ends @ np.array([[c, -s], [s, c]])).astype(np.float32)
            beams = Beams(np.zeros_like(seen), seen, np.ones(len(seen), bool))
            self.submap.add(Keyframe(0.0, beams, 0, np.array([0.0, 0.0, turn])), np.array([0.0, 0.0, turn]))

    def test_what_is_hit_faces_the_scanner_where_that_is_clear(self):
        points, fronts = self.submap.points(), self.submap.fronts()
        clear = np.any(fronts != 0.0, axis=1)
        np.testing.assert_allclose(points[:, 0], 2.0, atol=1e-6)
        np.testing.assert_allclose(fronts[clear], np.broadcast_to([-1.0, 0.0], (clear.sum(), 2)), atol=1e-5)
        self.assertGreater(clear.mean(), 0.9)

    def test_another_side_is_not_seen_though_it_lies_within_the_margin(self):
        behind = np.column_stack([np.full(40, 2.1), np.linspace(-2.0, 2.0, 40)])
        for front, seen in (([1.0, 0.0], False), ([-1.0, 0.0], True), ([0.0, 0.0], True)):
            with self.subTest(front=front):
                told = self.submap.sees(behind, 0.3, fronts=np.broadcast_to(front, behind.shape))
                self.assertEqual(set(told.tolist()), {seen})
        self.assertTrue(np.all(self.submap.sees(behind, 0.3)))


if __name__ == "__main__":
    unittest.main()
