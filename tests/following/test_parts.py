"""The parts that local planners are made of, against Shapely, difference quotients and closed forms."""

import unittest

import numpy as np
import shapely

from tests.support import assert_input_error, robot, room
from vinecompass import Zone, price_floor
from vinecompass.contact import Cells, Walking, shape_of
from vinecompass.following import Course, SpeedProfile
from vinecompass.following.band.band import BandProblem, Equations
from vinecompass.following.band.equation_kernels import HALF, solve_band
from vinecompass.following.band.kernels import gather
from vinecompass.following.band.topology import detour, islands_near, sides_of
from vinecompass.following.window.kernels import along_plan
from vinecompass.motion import limits_of
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
    def test_discs_cover_the_body(self):
        discs, radius = robot().body.covering_discs
        cover = shapely.union_all([shapely.Point(x, y).buffer(radius, quad_segs=64) for x, y in discs])
        self.assertTrue(cover.buffer(1e-3).contains(shapely.Polygon(OUTLINE)))
        self.assertLess(radius, 1.2 * 0.31)

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


class NormalEquations(unittest.TestCase):
    def test_every_terms_derivatives_are_difference_quotients(self):
        rng, count = np.random.default_rng(0), 8
        poses = np.cumsum(rng.normal(0.0, 0.2, (count + 1, 3)), axis=0) + np.outer(np.arange(count + 1), [0.25, 0, 0])
        times = rng.uniform(0.2, 0.5, count)
        limits = limits_of(robot().drive)._replace(
            top_speed=0.5,
            reverse_speed=0.2,
            top_turn_rate=0.6,
            acceleration=0.3,
            braking=0.4,
            turn_acceleration=0.9,
            top_rim_speed=0.5,
            turning_radius=4.0,
        )
        rows, columns = np.mgrid[0:80, 0:80]
        away = np.abs(np.hypot(columns * 0.05 - 1.2, rows * 0.05 - 1.0)).astype(np.float32)
        beside = poses[4, :2] + [0.3, 0.55]
        lines = np.array(
            [[*beside, *(beside + 0.4), 0, 0, 0.2], [*(poses[2, :2] - 0.6), *(poses[2, :2] - 0.6), 0, 0, 0.1]]
        )
        equations, costs_only = Equations.for_band(count), Equations.for_costs()
        for term in range(7):
            problem = BandProblem(
                limits=limits,
                weights=np.where(np.arange(7) == term, 10.0, 0.0),
                spare_to_floor=0.9,
                spare_to_obstacles=0.1,
                cells=Cells(np.zeros((80, 80), bool), away, 0.05, False),
                body=shape_of(robot().body),
                segments=lines,
                speed=0.2,
                turn_rate=0.1,
                ends_at_speed=False,
            )

            def cost(p, t, problem=problem):
                gather(problem, p, t, costs_only)
                return costs_only.costs.sum()

            gather(problem, poses, times, equations)
            slopes = -2.0 * equations.right
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
