import unittest

import numpy as np
import shapely
from scipy import ndimage

from tests.support import assert_input_error
from vinecompass.grids import BeamGrid, Beams, SensorModel

MODEL = SensorModel(hit_if_occupied=0.4, hit_if_free=0.1, bound=4.0)


def beams(origins, ends, hit=True):
    origins, ends = np.broadcast_arrays(np.asarray(origins, np.float32), np.asarray(ends, np.float32))
    return Beams(origins.copy(), ends.copy(), np.full(len(ends), hit))


def new_grid(clear_margin=0.0):
    return BeamGrid(0.1, clear_margin=clear_margin)


class OneScan(unittest.TestCase):
    def test_exactly_the_cells_on_the_lines_are_counted_as_passed(self):
        rng = np.random.default_rng(7)
        pose = np.array([0.31, -0.24, 0.6])
        origins, ends = np.float32(rng.uniform(-0.1, 0.1, (40, 2))), np.float32(rng.uniform(-3.0, 3.0, (40, 2)))
        grid = new_grid()
        walked = grid.add(pose, beams(origins, ends))
        snapshot = grid.snapshot(MODEL)
        turn = np.array([[np.cos(0.6), np.sin(0.6)], [-np.sin(0.6), np.cos(0.6)]])
        origins, ends = origins.astype(float) @ turn + pose[:2], ends.astype(float) @ turn + pose[:2]
        rows, columns = snapshot.shape
        corners = np.asarray(snapshot.corner) + 0.1 * np.stack(np.meshgrid(range(columns), range(rows)), axis=-1)
        lines = [shapely.LineString(pair) for pair in zip(origins, ends, strict=True)]
        boxes = shapely.box(corners[..., 0], corners[..., 1], corners[..., 0] + 0.1, corners[..., 1] + 0.1)
        crossed = shapely.length(shapely.intersection(shapely.union_all(lines), boxes))
        ended = np.zeros((rows, columns), bool)
        ended[tuple(snapshot.cells_at(ends).T)] = True
        # One that stands alone may be a stray one.
        alone = ended & (ndimage.convolve(ended.astype(int), np.ones((11, 11), int), mode="constant") == 1)
        np.testing.assert_array_equal(snapshot.log_odds[alone], 0.0)
        np.testing.assert_allclose(snapshot.log_odds[ended & ~alone], np.log(0.4 / 0.1), rtol=1e-6)
        # Where a line only just touches a cell, rounding decides.
        passed, missed = (crossed > 1e-6) & ~ended, (crossed == 0.0) & ~ended
        # So may one be that passed cells apart from all others.
        pieces, _ = ndimage.label(passed)
        together = pieces == np.argmax(np.bincount(pieces[passed]))
        self.assertGreater(np.mean(together[passed]), 0.9)
        np.testing.assert_allclose(snapshot.log_odds[together], np.log(0.6 / 0.9), rtol=1e-6)
        np.testing.assert_array_equal(snapshot.log_odds[passed & ~together], 0.0)
        np.testing.assert_array_equal(snapshot.log_odds[missed], 0.0)
        self.assertEqual(walked, sum(int(np.sum(shapely.intersects(boxes, line))) for line in lines))

    def test_a_beam_stops_passing_short_of_what_it_hit(self):
        grid = new_grid(clear_margin=0.2)
        grid.add([0.0, 0.0, 0.0], beams([[0.05, 0.05]], [[1.05, 0.05]]))
        grid.add([0.0, 0.0, 0.0], beams([[0.05, 0.05]], [[1.05, 0.05]]))
        seen = np.sign(grid.snapshot(MODEL).log_odds).ravel().astype(int).tolist()
        self.assertEqual(seen, [-1] * 9 + [0, 1])

    def test_log_odds_follow_bayes_rule(self):
        hits, passes = np.array([0, 1, 2, 30], np.uint16), np.array([1, 3, 0, 0], np.uint16)
        for hit, passed, told in zip(hits, passes, MODEL.log_odds(4 * hits, passes), strict=True):
            likely = [p**hit * (1.0 - p) ** passed for p in (0.4, 0.1)]
            self.assertAlmostEqual(float(told), np.log(likely[0] / likely[1]), places=4)

    def test_a_stray_beam_clears_no_floor_behind_a_wall_and_what_two_show_stays(self):
        angles = np.radians(np.arange(0.0, 360.0, 2.0))
        walls = 2.0 * np.column_stack([np.cos(angles), np.sin(angles)])
        for times, left in ((1, 0.0), (2, 2.0 * np.log(0.6 / 0.9))):
            grid = new_grid(clear_margin=0.1)
            for _ in range(9):
                grid.add([0.0, 0.0, 0.0], beams(np.zeros_like(walls), walls))
            for _ in range(times):
                grid.add([0.0, 0.0, 0.0], beams([[0.0, 0.0]], [[4.0, 3.0]]))
            snapshot = grid.snapshot(MODEL)
            behind = snapshot.cells_at(np.outer(np.linspace(2.6, 4.6, 40), [0.8, 0.6]))
            before = snapshot.cells_at(np.outer(np.linspace(0.0, 1.7, 40), [0.8, 0.6]))
            np.testing.assert_allclose(snapshot.log_odds[tuple(behind.T)], left, rtol=1e-6)
            self.assertLess(snapshot.log_odds[tuple(before.T)].max(), 2.0 * np.log(0.6 / 0.9))

    def test_what_is_far_counts_less_clears_less_and_leaves_no_blur_beside_what_is_clear(self):
        grid = BeamGrid(0.1, clear_margin=0.1, spread=0.02)
        near, far = beams([[2.0, 0.05]], [[3.05, 0.05]]), beams([[-9.0, 0.05]], [[3.25, 0.05]])
        for _ in range(20):
            grid.add([0.0, 0.0, 0.0], near)
        grid.add([0.0, 0.0, 0.0], far)
        row = grid.snapshot(MODEL)
        told = [float(row.log_odds[tuple(row.cells_at([[x, 0.05]])[0])]) for x in (2.85, 3.05, 3.25)]
        # The far beam ends behind the wall that the near ones show.
        self.assertEqual(told, [-4.0, 4.0, 0.0])
        grid = BeamGrid(0.1, clear_margin=0.1, spread=0.02)
        for _ in range(5):
            grid.add([0.0, 0.0, 0.0], far)
        # It went 12.25 m, and clears the floor up to 0.1 m and 0.02 m for each of them before its end.
        seen = np.sign(grid.snapshot(MODEL).log_odds).ravel().astype(int).tolist()
        self.assertEqual(seen[-5:], [-1, -1, 0, 0, 1])


class ManyScans(unittest.TestCase):
    def test_scans_taken_back_leave_no_trace_and_the_order_does_not_matter(self):
        rng = np.random.default_rng(8)
        scans = [
            (np.append(rng.uniform(-k, k, 2), 0.1 * k), beams([[0.0, 0.0]], rng.uniform(-k, k, (30, 2))))
            for k in (1.0, 5.0, 20.0, 60.0)
        ]
        grown, other = new_grid(), new_grid()
        for pose, scan in scans:
            grown.add(pose, scan)
        for pose, scan in scans[::-1]:
            other.add(pose, scan)
            other.add(pose + 3.0, scan)
            other.remove(pose + 3.0, scan)
        a, b = grown.snapshot(MODEL), other.snapshot(MODEL)
        np.testing.assert_array_equal(a.log_odds, b.log_odds)
        np.testing.assert_allclose(a.corner, b.corner, atol=1e-9)

    def test_memory_follows_the_floor_seen_and_not_the_bounding_box(self):
        across = new_grid()
        for place in np.arange(0.0, 1000.0, 5.0):
            across.add([place, place, 0.0], beams([[0.0, 0.0]], [[4.0, 4.0], [4.0, 5.0]]))
        dense = (1000.0 / 0.1) ** 2
        self.assertLess(across.memory, 0.1 * dense)

    def test_beams_across_the_country_and_no_beams_at_all_are_refused(self):
        grid = new_grid()
        assert_input_error(self, lambda: grid.snapshot(MODEL), "no beam has returned")
        far = beams([[0.0, 0.0]], [[1e5, 0.0]])
        assert_input_error(self, lambda: grid.add([0.0, 0.0, 0.0], far), "across the map", "unit")


if __name__ == "__main__":
    unittest.main()
