import unittest

import numpy as np
import shapely

from tests.support import assert_input_error
from vinecompass.grids import GrowingGrid


def new_grid():
    return GrowingGrid(0.1, occupied_step=0.9, free_step=0.45, bound=4.0, spread=0.1)


class OneScan(unittest.TestCase):
    def test_exactly_the_cells_on_the_lines_are_cleared(self):
        rng = np.random.default_rng(7)
        origins, ends = np.full((40, 2), 0.537), rng.uniform(-3.0, 3.0, (40, 2))
        grid = new_grid()
        grid.add(ends, origins, ends)
        snapshot = grid.snapshot()
        rows, columns = snapshot.shape
        corners = np.asarray(snapshot.corner) + 0.1 * np.stack(np.meshgrid(range(columns), range(rows)), axis=-1)
        lines = shapely.union_all([shapely.LineString(pair) for pair in zip(origins, ends, strict=True)])
        crossed = shapely.length(shapely.intersection(
            lines, shapely.box(corners[..., 0], corners[..., 1], corners[..., 0] + 0.1, corners[..., 1] + 0.1)
        ))  # fmt: skip
        ended = np.zeros((rows, columns), bool)
        ended[tuple(snapshot.cells_at(ends).T)] = True
        np.testing.assert_array_equal(snapshot.log_odds[ended], np.float32(0.9))
        passed = (crossed > 1e-9) & ~ended
        np.testing.assert_array_equal(snapshot.log_odds[passed], np.float32(-0.45))
        np.testing.assert_array_equal(snapshot.log_odds[~passed & ~ended], 0.0)

    def test_repeated_scans_stay_within_the_bound(self):
        grid = new_grid()
        for _ in range(30):
            grid.add(np.array([[2.05, 0.05]]), np.array([[0.05, 0.05]]), np.array([[2.05, 0.05]]))
        self.assertEqual(set(np.unique(grid.snapshot().log_odds)), {np.float32(-4.0), np.float32(4.0)})


class Growth(unittest.TestCase):
    def test_a_map_grown_in_steps_equals_one_made_with_room_from_the_start(self):
        rng = np.random.default_rng(8)
        scans = [(rng.uniform(-k, k, (30, 2)), np.zeros((30, 2))) for k in (1.0, 5.0, 20.0, 60.0)]
        grown, roomy = new_grid(), new_grid()
        far = np.array([[-70.0, -70.0], [70.0, 70.0]])
        roomy.add(np.zeros((0, 2)), far, far)
        for ends, origins in scans:
            grown.add(ends, origins, ends)
            roomy.add(ends, origins, ends)
        a, b = grown.snapshot(), roomy.snapshot()
        np.testing.assert_array_equal(a.log_odds, b.log_odds)
        np.testing.assert_allclose(a.corner, b.corner, atol=1e-9)

    def test_the_likelihood_kept_up_piece_by_piece_equals_one_made_whole(self):
        rng = np.random.default_rng(9)
        grid = new_grid()
        hits = rng.uniform(-4.0, 4.0, (300, 2))
        for part in np.split(hits, 6):
            grid.add(part, part, part)
        centres = grid.corner + 0.1 * (np.argwhere(np.ones(grid.log_odds.shape))[:, ::-1] + 0.5)
        sums, occupied = grid.hit_sums, grid.log_odds > 0.4
        cells = np.argwhere(occupied)
        means = grid.corner + 0.1 * (cells[:, ::-1] + sums[occupied][:, :2] / sums[occupied][:, 2:])
        gaps = np.hypot(*(centres[:, None] - means[None]).transpose(2, 0, 1))
        wanted = np.exp(-0.5 * (gaps / 0.1) ** 2).max(axis=1).reshape(grid.log_odds.shape)
        np.testing.assert_allclose(grid.likelihood, np.where(wanted > 0.05, wanted, grid.likelihood), atol=1e-4)
        self.assertTrue(np.all(grid.likelihood <= wanted + 1e-4))

    def test_beams_across_the_country_and_no_beams_at_all_are_refused(self):
        grid = new_grid()
        assert_input_error(self, grid.snapshot, "no beam has returned")
        far = np.array([[1e5, 0.0]])
        assert_input_error(self, lambda: grid.add(far, np.zeros((1, 2)), far), "across the map", "unit")


if __name__ == "__main__":
    unittest.main()
