"""Contact, against Shapely: at a pose and swept, with cells, points, segments and discs."""

import unittest

import numpy as np
import shapely

from tests.support import assert_input_error, robot
from vinecompass import Grid, price_floor
from vinecompass.contact import Walking, cells_shape_of, runs_into, samples_of_sweep, shape_of
from vinecompass.contact.cell_kernels import first_touch, gap_between, gap_bound
from vinecompass.contact.kernels import gap_to_segment, touches
from vinecompass.geometry import arc, transform_points

OUTLINE = robot().body.polygon
BODY = shape_of(robot().body)


def placed(pose):
    return shapely.Polygon(transform_points(pose, OUTLINE))


class Cells(unittest.TestCase):
    def test_a_body_touches_cells_where_shapely_says_so_and_off_the_grid_as_unknown_floor_says(self):
        rng = np.random.default_rng(3)
        grid = Grid(np.full((100, 100), -3.0, np.float32), 0.05)
        cells = rng.integers(10, 90, (40, 2))
        grid.log_odds[cells[:, 0], cells[:, 1]] = 3.0
        floor = price_floor(grid, robot()).cells
        squares = shapely.union_all(
            [shapely.box(c * 0.05, r * 0.05, (c + 1) * 0.05, (r + 1) * 0.05) for r, c in np.argwhere(floor.forbidden)]
        )
        whole = shapely.box(0.0, 0.0, 5.0, 5.0)
        poses = rng.uniform([-0.3, -0.3, -np.pi], [5.3, 5.3, np.pi], (600, 3))
        in_cells, shape = poses / [0.05, 0.05, 1.0], cells_shape_of(robot().body, 0.05)
        for closed in (True, False):
            touched = first_touch(floor._replace(closed_beyond=closed), shape, in_cells) >= 0
            for pose, found in zip(poses, touched, strict=True):
                body = placed(pose)
                inside = body.distance(squares) < 1e-9
                over = not whole.contains(body)
                self.assertEqual(bool(found), inside or (closed and over), (pose, closed))

    def test_gaps_are_never_more_than_the_distance_to_forbidden_floor_also_at_the_edge(self):
        clearance = price_floor(Grid(np.full((60, 80), -3.0, np.float32), 0.05), robot()).cells.clearance
        rng = np.random.default_rng(4)
        for x, y in rng.uniform([0.0, 0.0], [4.0, 3.0], (300, 2)):
            to_edge = min(x, y, 4.0 - x, 3.0 - y)
            self.assertLessEqual(gap_bound(clearance, 0.05, True, x, y), to_edge + 1e-6)
            # From centre to centre: half a cell lies between the edge and the middle of the first cell beyond it.
            self.assertAlmostEqual(gap_between(clearance, 0.05, True, x, y)[0], to_edge + 0.025, delta=0.026)
        for x, y in ((-0.1, 1.0), (4.1, 1.0), (1.0, -0.1), (1.0, 3.1)):
            self.assertEqual(gap_bound(clearance, 0.05, True, x, y), 0.0)
            self.assertLess(gap_between(clearance, 0.05, True, x, y)[0], 0.0)
            for gap in (gap_bound, lambda *told: gap_between(*told)[0]):
                self.assertGreater(gap(clearance, 0.05, False, x, y), 100.0)
        # Slopes are difference quotients, on the map and beyond each of its edges.
        clearance = np.abs(rng.normal(0.5, 0.2, (60, 80))).astype(np.float32)
        for x, y in rng.uniform([-0.3, -0.3], [4.3, 3.3], (300, 2)):
            _, *slopes = gap_between(clearance, 0.05, True, x, y)
            for axis, (dx, dy) in enumerate(((1e-7, 0.0), (0.0, 1e-7))):
                after, before = (gap_between(clearance, 0.05, True, x + k * dx, y + k * dy)[0] for k in (1, -1))
                self.assertAlmostEqual(slopes[axis], (after - before) / 2e-7, delta=1e-3, msg=f"{x}, {y}")


class ShapesAndSweeps(unittest.TestCase):
    def test_a_body_touches_segments_and_discs_where_shapely_says_so(self):
        rng = np.random.default_rng(5)
        nothing = np.zeros((0, 4)), np.zeros((0, 3))
        for _ in range(400):
            pose, ends, disc = rng.uniform(-1.5, 1.5, 3), rng.uniform(-1.5, 1.5, (2, 2)), rng.uniform(0.05, 0.4)
            body, line = placed(pose), shapely.LineString(ends)
            self.assertEqual(touches(BODY, *pose, ends.reshape(1, 4), nothing[1]), body.intersects(line))
            gap = body.distance(shapely.Point(ends[0]))
            self.assertEqual(touches(BODY, *pose, nothing[0], np.array([[*ends[0], disc]])), gap <= disc)

    def test_what_a_sweep_does_not_see_is_less_than_half_its_spacing_deep(self):
        rng, spacing = np.random.default_rng(6), 0.05
        for _ in range(200):
            velocity, seconds = rng.uniform([-0.8, -0.3, -1.5], [0.8, 0.3, 1.5]), rng.uniform(0.3, 1.5)
            point = rng.uniform(-1.2, 1.2, 2)
            fine = [placed(pose) for pose in arc(velocity, np.linspace(0.0, seconds, 400))]
            spot = shapely.Point(point)
            if fine[0].contains(spot):
                continue
            deepest = max(body.exterior.distance(spot) if body.contains(spot) else 0.0 for body in fine)
            found = runs_into(BODY, point[None], velocity, seconds, spacing=spacing)
            if deepest == 0.0:
                self.assertFalse(found and min(body.distance(spot) for body in fine) > 1e-3)
            elif not found:
                self.assertLess(deepest, 0.5 * spacing + 1e-3)
        self.assertEqual(samples_of_sweep(BODY, np.array([0.5, 0.0, 0.0]), 1.0, 0.05), 10)
        # What it stands on already, it does not run into.
        self.assertFalse(runs_into(BODY, np.zeros((1, 2)), np.array([0.1, 0.0, 0.0]), 1.0, spacing=spacing))

    def test_the_distance_from_body_to_line_is_shapelys_and_its_slopes_are_difference_quotients(self):
        rng = np.random.default_rng(7)
        body = shapely.Polygon(OUTLINE)
        for _ in range(200):
            pose, ends = rng.uniform(-1.5, 1.5, 3), rng.uniform(-1.5, 1.5, (2, 2))

            def found(p, ends=ends):
                return gap_to_segment(OUTLINE, p[0], p[1], np.cos(p[2]), np.sin(p[2]), *ends[0], *ends[1])

            distance, *slopes = found(pose)
            local = (
                np.array([[np.cos(pose[2]), np.sin(pose[2])], [-np.sin(pose[2]), np.cos(pose[2])]])
                @ (ends - pose[:2]).T
            )
            line = shapely.LineString(local.T)
            if distance > 0.0:
                # Its points are a tenth of a metre apart: a line that cuts off a corner may be taken to pass it by.
                self.assertAlmostEqual(distance, body.distance(line), delta=0.03)
                if distance < 0.02:
                    continue
                for axis in range(3):
                    step = 1e-6 * np.eye(3)[axis]
                    self.assertAlmostEqual(
                        slopes[axis], (found(pose + step)[0] - found(pose - step)[0]) / 2e-6, delta=1e-3
                    )
            else:
                self.assertTrue(body.intersects(line))


class People(unittest.TestCase):
    def test_a_person_keeps_its_radius_through_rows(self):
        people = [Walking(1.0, 2.0, 0.3, -0.4, 0.4), Walking(0.0, 0.0)]
        self.assertEqual(Walking.of_rows(Walking.rows(people)), people)
        self.assertEqual(Walking.rows([]).shape, (0, 5))
        assert_input_error(self, lambda: Walking(0.0, 0.0, radius=-1.0), "radius", "-1.0")


if __name__ == "__main__":
    unittest.main()
