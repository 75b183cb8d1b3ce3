import unittest

import numpy as np

from tests.support import room, short_mapping
from vinecompass import Grid, grid_from_polygons
from vinecompass.geometry import compose
from vinecompass.grids import MapRays


class MapRaysTest(unittest.TestCase):
    def test_ranges_in_a_room_are_those_of_geometry(self):
        rays, angles = MapRays(room()), np.linspace(-np.pi, np.pi, 73)
        pose = np.array([2.1, 1.3, 0.4])
        cosine, sine = np.cos(pose[2] + angles), np.sin(pose[2] + angles)
        # Walls are the outermost cells: their inner faces lie 0.05 m inside the 6 m x 4 m.
        with np.errstate(divide="ignore"):
            wanted = np.minimum(
                np.where(cosine > 0, (5.95 - pose[0]) / cosine, (0.05 - pose[0]) / cosine),
                np.where(sine > 0, (3.95 - pose[1]) / sine, (0.05 - pose[1]) / sine),
            )
        found = rays.ranges(pose[None], angles, farthest=20.0)[0]
        self.assertLess(np.abs(found - wanted).max(), 0.05)

    def test_in_a_real_map_rays_end_where_a_fine_walk_does(self):
        grid, rng = short_mapping().grid, np.random.default_rng(4)
        rays = MapRays(grid)
        free = grid.points_of(np.argwhere(grid.free))
        poses = np.column_stack([free[rng.integers(len(free), size=60)], rng.uniform(-np.pi, np.pi, 60)])
        ways = np.arange(0.0, 8.0, 0.001)
        found = rays.ranges(poses, [0.0], farthest=8.0)[:, 0]
        for pose, reach in zip(poses, found, strict=True):
            line = pose[:2] + ways[:, None] * [np.cos(pose[2]), np.sin(pose[2])]
            hits = np.flatnonzero(grid.values_at(line, grid.occupied, outside=False))
            # A corner cut by less than half a cell may be passed.
            clear = rays.clearance_at(line[hits[:1]] if len(hits) else line[:0])
            if len(hits) and np.isfinite(reach):
                self.assertGreaterEqual(reach, ways[hits[0]] - 0.02)
                self.assertEqual(clear.tolist(), [0.0])
            self.assertTrue(
                np.isinf(reach)
                or grid.values_at(
                    pose[None, :2] + reach * np.array([[np.cos(pose[2]), np.sin(pose[2])]]),
                    grid.occupied,
                    outside=False,
                )[0]
            )
        walked = [np.isinf(reach) for reach in found]
        self.assertLess(np.mean(walked), 0.9)

    def test_a_turned_map_and_a_reach(self):
        turned = Grid(room().log_odds, 0.05, (10.0, 20.0), 0.7)
        pose = compose(turned.frame, [2.0, 2.0, 0.3])
        straight = MapRays(room()).ranges([[2.0, 2.0, 0.3]], [0.0, 1.0, 2.0], farthest=9.0)
        np.testing.assert_allclose(
            MapRays(turned).ranges(pose[None], [0.0, 1.0, 2.0], farthest=9.0), straight, atol=0.06
        )
        self.assertTrue(np.isinf(MapRays(room()).ranges([[1.0, 2.0, 0.0]], [0.0], farthest=3.0))[0, 0])

    def test_a_pose_too_near_to_a_thick_wall_fits_worse_than_the_right_one(self):
        square = [(0.0, 0.0), (6.0, 0.0), (6.0, 6.0), (0.0, 6.0)]
        # A scanner that looks ahead only, 3 m before the wall: its beams end at the wall's face.
        bearings, shifts = np.linspace(-0.6, 0.6, 41), np.arange(-0.2, 0.201, 0.01)
        seen = 3.0 * np.column_stack([np.ones(41), np.tan(bearings)])
        for cell_size, wall in ((0.05, 0.15), (0.05, 0.2), (0.05, 0.6), (0.1, 0.3)):
            with self.subTest(cell_size=cell_size, wall=wall):
                grid = grid_from_polygons(square, [], cell_size, wall=wall)
                field = MapRays(grid).likelihood_field(0.06)
                fits = np.array([grid.values_at(seen + [3.0 + s, 3.0], field, outside=0.0).mean() for s in shifts])
                self.assertLess(np.abs(shifts[fits > fits.max() - 1e-6]).max(), cell_size + 0.005)


if __name__ == "__main__":
    unittest.main()
