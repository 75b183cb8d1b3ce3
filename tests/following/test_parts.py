"""The parts that local planners are made of, against Shapely, difference quotients and closed forms."""

import unittest

import numpy as np
import shapely

from tests.support import assert_input_error, robot, room
from vinecompass import Zone, price_floor
from vinecompass.costs import Walking
from vinecompass.following import Course, SpeedProfile
from vinecompass.following.band.kernels import HALF, body_to_segment, gather, solve_band
from vinecompass.following.band.topology import detour, islands_near, sides_of
from vinecompass.following.kernels import along_plan, body_meets
from vinecompass.geometry import transform_points
from vinecompass.settings import FollowingSettings

OUTLINE = robot().body.polygon


class Courses(unittest.TestCase):
    def test_legs_turn_about_where_the_plan_does_and_turns_on_the_spot_are_no_stretch(self):
        x = np.array([0.0, 1.0, 2.0, 2.0, 1.0, 0.5, 0.5, 0.5])
        heading = np.array([0.3, 0.0, 0.0, 0.0, 0.0, 0.0, 0.5, 1.0])
        course = Course(np.column_stack([x, 0.0 * x, heading]))
        self.assertEqual((course.direction, course.left, course.last_leg), (1, 2.0, False))
        for x in (0.9, 1.9):
            course.advance(np.array([x, 0.1, 0.0]))
        self.assertEqual((course.left, course.remaining.shape[0]), (0.0, 3))
        course.next_leg()
        self.assertEqual((course.direction, course.left, course.last_leg), (-1, 1.5, True))
        np.testing.assert_allclose(course.leg_end, [0.5, 0.0, 1.0])
        course.advance(np.array([0.6, 0.0, 0.0]))
        self.assertEqual(course.ahead(0.2), course.end)
        assert_input_error(self, lambda: Course(np.zeros((0, 3))), "poses", "no pose")

    def test_it_never_goes_back_nor_skips_a_stretch_that_comes_near_again(self):
        there = np.column_stack([np.arange(0.0, 5.0, 0.1), np.zeros(50)])
        back = np.column_stack([np.arange(5.0, 0.0, -0.1), np.full(50, 0.2)])
        points = np.vstack([there, back])
        headings = np.arctan2(*np.diff(points, axis=0).T[::-1])
        course = Course(np.column_stack([points, np.append(headings, np.pi)]))
        course.advance(np.array([1.0, 0.15, 0.0]))
        self.assertLess(course.nearest, 15)
        before = course.nearest
        course.advance(np.array([0.2, 0.0, 0.0]))
        self.assertGreaterEqual(course.nearest, before)

    def test_the_allowed_speed_can_be_braked_before_every_cap_ahead(self):
        zone = Zone(name="z", kind="slow", speed=0.3, polygon=[(4, 0), (6, 0), (6, 4), (4, 4)])
        floor = price_floor(room(9.0, 4.0), robot(), zones=[zone])
        points = np.arange(1.0, 8.0, 0.1)
        poses = np.column_stack([points, np.full(len(points), 2.0), np.zeros(len(points))])
        settings, drive = FollowingSettings(), robot().drive
        for x in (1.0, 2.5, 3.5, 3.9, 4.5, 6.5, 7.8):
            course = Course(poses)
            for step in np.arange(1.0, x + 0.01, 0.1):
                course.advance(np.array([step, 2.0, 0.0]))
            profile = SpeedProfile(course, floor, robot(), settings)
            to_zone = points[np.argmax(points > 3.99)] - x
            caps = [0.97 * drive.top_speed, np.sqrt(drive.braking * max(points[-1] - x, 0.0))]
            if 3.99 < x < 6.0:
                caps.append(0.3)
            elif 0.0 < to_zone < 3.0:
                caps.append(np.sqrt(0.3**2 + drive.braking * to_zone))
            with self.subTest(x=x):
                self.assertAlmostEqual(profile.allowed, max(min(caps), 0.05), delta=0.12)
                self.assertEqual("zone" in profile.reason, min(caps) == caps[-1] and len(caps) == 3)


class Shapes(unittest.TestCase):
    def test_discs_cover_the_body_and_rim_points_lie_on_it_close_together(self):
        discs, radius = robot().body.covering_discs
        cover = shapely.union_all([shapely.Point(x, y).buffer(radius, quad_segs=64) for x, y in discs])
        self.assertTrue(cover.buffer(1e-3).contains(shapely.Polygon(OUTLINE)))
        self.assertLess(radius, 1.2 * 0.31)
        rim = robot().body.rim(0.025)
        ring = shapely.LinearRing(OUTLINE)
        self.assertLess(max(ring.distance(shapely.Point(p)) for p in rim), 1e-9)
        self.assertLessEqual(np.hypot(*np.diff(np.vstack([rim, rim[:1]]), axis=0).T).max(), 0.025 + 1e-9)

    def test_a_body_meets_forbidden_floor_where_shapely_says_so(self):
        grid = room(5.0, 5.0)
        rng = np.random.default_rng(3)
        cells = rng.integers(10, 90, (40, 2))
        grid.log_odds[cells[:, 0], cells[:, 1]] = 3.0
        floor = price_floor(grid, robot())
        rim = robot().body.rim(0.025)
        squares = shapely.union_all(
            [shapely.box(c * 0.05, r * 0.05, (c + 1) * 0.05, (r + 1) * 0.05) for r, c in np.argwhere(floor.forbidden)]
        )
        for _ in range(300):
            x, y, heading = rng.uniform([0.6, 0.6, -np.pi], [4.4, 4.4, np.pi])
            met = body_meets(floor.forbidden, floor.clearance, 0.05, rim, 0.025, x, y, np.cos(heading), np.sin(heading))
            outline = transform_points([x, y, heading], OUTLINE)
            # What the rim crosses by less than the points are apart may be missed; nothing else may.
            if met:
                self.assertTrue(shapely.LinearRing(outline).distance(squares) < 1e-9)
            else:
                crossed = shapely.LinearRing(outline).intersection(squares).length
                self.assertLess(crossed, 0.03)

    def test_the_nearest_point_of_a_plan_is_shapelys(self):
        rng = np.random.default_rng(5)
        for _ in range(100):
            plan = np.cumsum(rng.uniform([0.05, -0.1], [0.2, 0.1], (30, 2)), axis=0)
            point = plan[4] + rng.uniform(-0.2, 0.2, 2)
            segment, share, square = along_plan(plan, 0, *point)
            near = plan[segment] + share * (plan[segment + 1] - plan[segment])
            self.assertAlmostEqual(np.sqrt(square), np.hypot(*(near - point)), places=9)
            self.assertAlmostEqual(
                np.sqrt(square), shapely.LineString(plan[:12]).distance(shapely.Point(point)), places=9
            )

    def test_the_distance_from_body_to_line_is_shapelys_and_its_slopes_are_difference_quotients(self):
        rng = np.random.default_rng(7)
        body = shapely.Polygon(OUTLINE)
        for _ in range(200):
            pose, ends = rng.uniform(-1.5, 1.5, 3), rng.uniform(-1.5, 1.5, (2, 2))

            def found(p, ends=ends):
                return body_to_segment(OUTLINE, p[0], p[1], np.cos(p[2]), np.sin(p[2]), *ends[0], *ends[1])

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


class NormalEquations(unittest.TestCase):
    def test_every_terms_derivatives_are_difference_quotients(self):
        rng, count = np.random.default_rng(0), 8
        poses = np.cumsum(rng.normal(0.0, 0.2, (count + 1, 3)), axis=0) + np.outer(np.arange(count + 1), [0.25, 0, 0])
        times = rng.uniform(0.2, 0.5, count)
        limits = (0.5, 0.2, 0.6, 0.3, 0.4, 0.9, 0.27, 0.5, 4.0)
        rows, columns = np.mgrid[0:80, 0:80]
        floor = (np.abs(np.hypot(columns * 0.05 - 1.2, rows * 0.05 - 1.0)).astype(np.float32), 0.05)
        body = (*robot().body.covering_discs, OUTLINE)
        beside = poses[4, :2] + [0.3, 0.55]
        lines = np.array(
            [[*beside, *(beside + 0.4), 0, 0, 0.2], [*(poses[2, :2] - 0.6), *(poses[2, :2] - 0.6), 0, 0, 0.1]]
        )
        matrix, right, costs = np.empty((4 * count, HALF + 1)), np.empty(4 * count), np.empty(7)
        none, nothing = np.empty((0, HALF + 1)), np.empty(0)
        for term in range(7):
            weights = np.zeros(7)
            weights[term] = 10.0

            def cost(p, t, weights=weights):
                gather(p, t, (0.2, 0.1), False, limits, weights, (0.9, 0.1), floor, body, lines, none, nothing, costs)
                return costs.sum()

            gather(
                poses, times, (0.2, 0.1), False, limits, weights, (0.9, 0.1), floor, body, lines, matrix, right, costs
            )
            slopes = -2.0 * right
            self.assertGreater(np.abs(slopes).max(), 1e-4, term)
            for i in range(count):
                for axis in range(4 if i < count - 1 else 1):
                    sides = []
                    for sign in (1e-6, -1e-6):
                        p, t = poses.copy(), times.copy()
                        if axis == 0:
                            t[i] += sign
                        else:
                            p[i + 1, axis - 1] += sign
                        sides.append(cost(p, t))
                    slope = (sides[0] - sides[1]) / 2e-6
                    self.assertAlmostEqual(slopes[4 * i + axis], slope, delta=1e-4 * max(np.abs(slopes).max(), 1.0))

    def test_the_banded_solver_is_numpys(self):
        rng, size = np.random.default_rng(2), 40
        full = np.zeros((size, size))
        for i in range(size):
            for j in range(i)[-HALF:]:
                full[i, j] = full[j, i] = rng.normal()
        full += (np.abs(full).sum() / size + 5.0) * np.eye(size)
        band = np.zeros((size, HALF + 1))
        for i in range(size):
            for j in range(i + 1)[-HALF - 1 :]:
                band[i, i - j] = full[i, j]
        right = rng.normal(size=size)
        solution = right.copy()
        self.assertTrue(solve_band(band, solution))
        np.testing.assert_allclose(solution, np.linalg.solve(full, right), atol=1e-9)
        self.assertFalse(solve_band(-np.ones((4, HALF + 1)), np.ones(4)))


class Topology(unittest.TestCase):
    def test_a_detour_passes_its_island_on_the_side_asked_for_with_the_room_asked_for(self):
        path = np.column_stack([np.arange(0.0, 5.0, 0.1), 0.1 * np.sin(np.arange(0.0, 5.0, 0.1))])
        for y in (-0.3, 0.0, 0.2):
            (island,) = islands_near(path, None, [Walking(2.5, y)], 6.0)
            for side in (1, -1):
                with self.subTest(y=y, side=side):
                    led = detour(path, island, side, 0.6)
                    self.assertEqual(sides_of(led, [island]), (side,))
                    gap = shapely.LineString(led).distance(shapely.Point(island.x, island.y)) - island.reach
                    self.assertGreater(gap, 0.5)
                    np.testing.assert_allclose(led[[0, -1]], path[[0, -1]])
        far = islands_near(path, None, [Walking(2.5, 4.0)], 6.0)
        self.assertEqual(sides_of(path, far), (0,))

    def test_a_person_is_met_where_both_will_be_and_what_is_seen_is_one_island(self):
        path = np.column_stack([np.arange(0.0, 6.0, 0.1), np.full(60, 2.0)])
        (met,) = islands_near(path, None, [Walking(4.0, 2.0, -0.8, 0.0)], 6.0)
        self.assertAlmostEqual(met.x, 2.0, delta=0.15)
        seen = np.array([[3.0 + 0.04 * i, 2.32] for i in range(6)])
        floor = price_floor(room(), robot(), obstacles=seen)
        (island,) = islands_near(path[:30], floor, [], 4.0)
        self.assertAlmostEqual(island.x, 3.1, delta=0.06)
        self.assertLess(island.reach, 0.2)


if __name__ == "__main__":
    unittest.main()
