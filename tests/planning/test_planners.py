import unittest
from functools import partial

import numpy as np
from shapely import Point, Polygon

from tests.planning.test_motions import LeftTurnsOnly, car
from tests.planning.test_planning import two_rooms
from tests.support import assert_input_error, robot, room
from vinecompass import (
    DubinsMotion,
    Grid,
    Problem,
    ReedsSheppMotion,
    Roadmap,
    Zone,
    compare_planners,
    demo_file,
    plan_path,
    price_floor,
    read_robot,
)
from vinecompass.costs import body_touches
from vinecompass.geometry import arc, compose, relative, wrap_angle
from vinecompass.planning import METHODS, Entry, Way, entries_of, plan_round, solve
from vinecompass.settings import CostSettings, PlanSettings

START, GOAL = np.array([1.5, 1.5, 0.0]), np.array([8.5, 1.5, np.pi / 2])
SAMPLED = {"rrt", "rrt-connect", "rrt-star", "informed-rrt-star", "roadmap"}
FEW = PlanSettings(iterations=4000, roadmap_nodes=500)


class EveryPlanner(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        cls.costmap = price_floor(two_rooms(1.2), robot())
        cls.problem = Problem(cls.costmap, robot(), START, GOAL)
        cls.plans = {method: solve(cls.problem, method, settings=FEW, seed=1) for method in METHODS}

    def test_they_all_give_one_kind_of_answer(self):
        optimum = min(plan.cost for plan in self.plans.values())
        for method, plan in self.plans.items():
            with self.subTest(method=method):
                self.assertEqual((plan.status, plan.reason, plan.method), ("found", "", method))
                self.assertTrue(np.all(body_touches(self.costmap, robot(), plan.poses)[:, 0] < 0))
                np.testing.assert_allclose(plan.poses[0], START, atol=1e-9)
                np.testing.assert_allclose(plan.poses[-1, :2], GOAL[:2], atol=1e-9)
                self.assertAlmostEqual(float(wrap_angle(plan.poses[-1, 2] - GOAL[2])), 0.0)
                steps = np.hypot(*np.diff(plan.poses[:, :2], axis=0).T)
                self.assertAlmostEqual(plan.length, steps.sum())
                self.assertLessEqual(steps.max(), 0.36)
                self.assertLessEqual(plan.length, plan.cost)
                self.assertLess(
                    plan.cost, (2.0 if method in SAMPLED - {"rrt-star", "informed-rrt-star"} else 1.05) * optimum
                )
                self.assertGreater(plan.least_clearance, 0.0)
                self.assertGreater(plan.expanded, 0)
                self.assertEqual(len(plan.tree) > 0, method in SAMPLED)
                self.assertEqual(len(plan.explored) > 0, method not in SAMPLED)

    def test_the_same_seed_gives_the_same_bytes_and_another_another_plan(self):
        for method in sorted(SAMPLED):
            with self.subTest(method=method):
                again = solve(self.problem, method, settings=FEW, seed=1)
                self.assertEqual(again.poses.tobytes(), self.plans[method].poses.tobytes())
                other = solve(self.problem, method, settings=FEW, seed=2)
                self.assertNotEqual(other.poses.tobytes(), self.plans[method].poses.tobytes())

    def test_trees_get_cheaper_with_more_samples_and_need_some(self):
        costs = [
            solve(self.problem, "rrt-star", settings=PlanSettings(iterations=count), seed=4).cost
            for count in (1000, 3000, 9000)
        ]
        # Smoothing blurs the last thousandth.
        self.assertTrue(costs[0] * 1.001 >= costs[1] and costs[1] * 1.001 >= costs[2], costs)
        few = solve(self.problem, "rrt", settings=PlanSettings(iterations=3))
        self.assertEqual(few.status, "gave up")
        self.assertIn("rrt found no way after 3 iterations", few.reason)
        self.assertIn("a-star finds one", few.reason)
        brief = solve(self.problem, "rrt-star", settings=PlanSettings(iterations=10**6, time_limit=0.2))
        self.assertLess(brief.iterations, 10**6)

    def test_trees_that_keep_getting_cheaper_end_where_nothing_is_cheaper_and_bear_a_narrow_ellipse(self):
        open_floor = Grid(np.full((60, 140), -3.0, np.float32), 0.05)
        costmap = price_floor(open_floor, robot(), settings=CostSettings(unknown="free"))
        for method in ("rrt-star", "informed-rrt-star"):
            for away in (1.0, 5.0):
                with self.subTest(method=method, away=away):
                    plan = plan_path(costmap, robot(), [1.0, 1.5, 0.0], [1.0 + away, 1.5, 0.0], method=method)
                    self.assertAlmostEqual(plan.cost, away, places=3)
                    # One edge is the straight line; several never quite are, and all samples lie close about it.
                    samples = 250 if away == 1.0 else PlanSettings().iterations
                    self.assertEqual(plan.iterations, samples)

    def test_a_goal_may_be_several_poses_a_region_or_a_test(self):
        east = Polygon([(6.4, 0.5), (8.4, 0.5), (8.4, 2.0), (6.4, 2.0)])
        goals = np.array([[8.0, 4.0, 0.0], [6.5, 1.2, 0.0], [0.05, 0.05, 0.0]])
        for method in METHODS:
            with self.subTest(method=method):
                call = partial(plan_path, self.costmap, robot(), START, method=method, settings=FEW)
                each = [call(goal) for goal in goals]
                cheapest = min(plan.cost for plan in each if plan.found)
                several = call(goals)
                self.assertAlmostEqual(several.cost, cheapest, delta=1e-9)
                self.assertEqual(several.least_clearance, next(p.least_clearance for p in each if p.cost == cheapest))
                for plan in (call(east), call(lambda pose: east.contains(Point(pose[:2])))):
                    self.assertTrue(plan.found)
                    self.assertTrue(east.contains(Point(plan.poses[-1, :2])))
        never = plan_path(self.costmap, robot(), START, lambda pose: False)
        self.assertEqual((never.status, never.why_not.cause), ("no way", "goal"))
        shut = plan_path(self.costmap, robot(), START, Polygon([(0, 0), (0.2, 0), (0.2, 0.2), (0, 0.2)]))
        self.assertEqual(shut.status, "goal closed")
        for goal in ([1.0, 2.0], np.zeros((0, 3)), "dock"):
            assert_input_error(self, lambda goal=goal: plan_path(self.costmap, robot(), START, goal), "goal")

    def test_a_planner_of_ones_own_is_called_checked_and_compared(self):
        def over(points):
            return lambda problem, settings, rng: Way(np.asarray(points, dtype=float))

        def by_hand(problem, settings, rng):
            return METHODS["a-star"](problem, settings, rng)

        found = compare_planners(self.problem, [by_hand, "a-star"])
        self.assertEqual([row.entry.label for row in found.rows], ["by_hand", "a-star"])
        self.assertEqual(found.rows[0].best.cost, found.rows[1].best.cost)
        for way, words in (
            (over([START, GOAL]), "touches floor closed by the layer 'map' at 4."),
            (over([START, START]), "ends 7.00 m off"),
            (over([[1.9, 1.5, 0.0], GOAL]), "begins 0.40 m off"),
            (over([[1.0, 2.0]]), "no Way with poses (N, 3)"),
            (over([[np.nan] * 3]), "finite numbers"),
            (lambda *_: None, "no Way"),
            (over(np.zeros((0, 3))), "found no way after 0 iterations"),
        ):
            with self.subTest(words=words):
                plan = solve(self.problem, way)
                self.assertEqual(plan.status, "gave up")
                self.assertIn(words, plan.reason)
        known = self.plans["rrt-connect"]
        plan = plan_path(self.costmap, robot(), START, GOAL, method=over(known.poses))
        self.assertEqual((plan.status, plan.cost), ("found", known.cost))

    def test_from_a_place_to_itself_and_from_the_edge_of_an_open_map(self):
        grid = Grid(np.full((100, 140), -3.0, np.float32), 0.05)
        closed = plan_path(price_floor(grid, robot()), robot(), [3.0, 2.5, 0.0], [0.02, 2.5, 0.0])
        self.assertEqual(closed.status, "goal closed")
        self.assertIn("edge of the map", closed.reason)
        costmap = price_floor(grid, robot(), settings=CostSettings(unknown="free"))
        for method in METHODS:
            with self.subTest(method=method):
                for goal, length in (([3.0, 2.5, 2.0], 0.0), ([0.02, 2.5, 0.0], 2.98)):
                    plan = plan_path(costmap, robot(), [3.0, 2.5, 0.0], goal, method=method, settings=FEW)
                    self.assertTrue(plan.found, plan.reason)
                    # Behind it, the lattice turns by an arc.
                    self.assertTrue(length - 1e-9 <= plan.length <= 1.2 * length + 0.02, plan.length)
                    self.assertEqual(plan.resampled(0.2).shape[1], 3)

    def test_a_roadmap_answers_many_queries(self):
        roads = Roadmap(self.problem, FEW, np.random.default_rng(3))
        rng, found = np.random.default_rng(4), 0
        for _ in range(20):
            a, b = (
                np.array([*rng.uniform([0.8, 0.8], [4.0, 5.0]), 0.0]),
                np.array([*rng.uniform([6, 1], [9, 5]), 0.0]),
            )
            way = roads.plan(a, b)
            found += len(way.poses) > 0
            self.assertTrue(
                np.all(body_touches(self.costmap, robot(), way.poses)[:, 0] < 0) if len(way.poses) else True
            )
        self.assertGreaterEqual(found, 19)

    def test_a_round_goes_by_way_of_its_stops(self):
        legs = plan_round(self.costmap, robot(), [START, [2.0, 4.5, 0.0], GOAL])
        self.assertEqual([leg.status for leg in legs], ["found", "found"])
        np.testing.assert_allclose(legs[0].poses[-1], [2.0, 4.5, 0.0])
        np.testing.assert_allclose(legs[1].poses[0], [2.0, 4.5, 0.0])
        broken = plan_round(self.costmap, robot(), [START, [5.0, 0.2, 0.0], GOAL])
        self.assertEqual([leg.status for leg in broken], ["goal closed"])

    def test_one_way_floor_is_never_driven_against(self):
        door = [(4.8, 0.0), (5.2, 0.0), (5.2, 6.0), (4.8, 6.0)]
        for heading_deg, passes in ((0.0, True), (180.0, False)):
            zone = Zone(name="gate", kind="one-way", heading_deg=heading_deg, polygon=door)
            costmap = price_floor(two_rooms(1.2), robot(), zones=[zone])
            for method in METHODS:
                plan = plan_path(costmap, robot(), START, GOAL, method=method, settings=FEW)
                with self.subTest(method=method, heading_deg=heading_deg):
                    self.assertEqual(plan.found, passes, plan.reason)
                    if not passes:
                        self.assertEqual((plan.status, plan.why_not.cause), ("no way", "one-way zone"))

    def test_smoothing_never_closes_in_on_what_is_closed(self):
        for door in (0.8, 1.6):
            problem = Problem(price_floor(two_rooms(door), robot()), robot(), START, GOAL)
            for method in ("a-star", "any-angle"):
                least = []
                for rounds in (1, 60):
                    poses = solve(problem, method, settings=PlanSettings(smoothing_rounds=rounds)).poses
                    grid = problem.costmap.grid
                    least.append(float(grid.values_at(poses[:, :2], problem.costmap.clearance, 0.0).min()))
                with self.subTest(door=door, method=method):
                    self.assertGreaterEqual(least[1], least[0] - 1e-6)

    def test_resampled_poses_are_even_and_on_the_plan(self):
        plan = self.plans["a-star"]
        even = plan.resampled(0.25)
        steps = np.hypot(*np.diff(even[:, :2], axis=0).T)
        self.assertTrue(np.all(steps <= 0.25 + 1e-9) and np.ptp(steps) < 0.02)
        np.testing.assert_allclose(even[[0, -1]], plan.poses[[0, -1]], atol=1e-9)
        self.assertTrue(np.all(body_touches(self.costmap, robot(), even)[:, 0] < 0))


class CurvedPlans(unittest.TestCase):
    def test_a_car_gets_there_by_curves_it_can_drive(self):
        costmap, cart = price_floor(two_rooms(1.6), car()), car()
        for method in ("lattice", "rrt", "rrt-connect", "rrt-star", "roadmap"):
            plan = plan_path(costmap, cart, START, GOAL, method=method, settings=FEW, seed=2)
            with self.subTest(method=method):
                self.assertTrue(plan.found, plan.reason)
                turn = np.abs(wrap_angle(np.diff(plan.poses[:, 2])))
                way = np.hypot(*np.diff(plan.poses[:, :2], axis=0).T)
                self.assertTrue(np.all(turn <= way / cart.drive.turning_radius * 1.01 + 1e-6))
                self.assertTrue(np.all(body_touches(costmap, cart, plan.poses)[:, 0] < 0))
        self.assertEqual(plan_path(costmap, cart, START, GOAL).method, "lattice")
        assert_input_error(
            self, lambda: plan_path(costmap, cart, START, GOAL, method="a-star"), "straight lines", "lattice"
        )

    def test_it_parks_backwards_only_where_that_is_allowed(self):
        costmap, cart = price_floor(two_rooms(1.6), car()), car()
        behind = np.array([1.0, 1.5, 0.0])
        both = plan_path(costmap, cart, np.array([2.5, 1.5, 0.0]), behind)
        self.assertAlmostEqual(both.length, 1.5, places=6)
        forward = plan_path(costmap, cart, np.array([2.5, 3.0, 0.0]), [1.5, 3.0, 0.0], motion=DubinsMotion(0.8))
        self.assertTrue(forward.found, forward.reason)
        self.assertEqual(forward.reversals, 0)
        self.assertGreater(forward.length, 5.0)

    def test_changes_of_direction_have_their_price(self):
        costmap, cart = price_floor(two_rooms(1.6), car()), car()
        reversals = [
            plan_path(
                costmap, cart, [2.5, 1.5, 0.0], [2.5, 2.2, 0.0], settings=PlanSettings(change_price=price)
            ).reversals
            for price in (0.0, 0.5, 5.0)
        ]
        self.assertEqual(reversals, [2, 1, 0])

    def test_no_drive_of_arcs_is_cheaper_than_the_lattices_way_and_it_hardly_searches_on_open_floor(self):
        rng, cart = np.random.default_rng(7), car()
        costmap, radius = price_floor(room(30.0, 30.0), cart), cart.drive.turning_radius
        for reverse_price, change_price in ((1.5, 0.5), (3.0, 0.2), (1.0, 3.0)):
            settings = PlanSettings(reverse_price=reverse_price, change_price=change_price)
            for _ in range(12):
                pose, ways = np.array([15.0, 15.0, rng.uniform(-3.0, 3.0)]), rng.uniform(-4.0, 4.0, rng.integers(1, 5))
                start = pose
                for way in ways:
                    pose = compose(pose, arc([way, 0.0, way * rng.choice([-1.0, 0.0, 1.0]) / radius], 1.0))
                plan = plan_path(costmap, cart, start, pose, method="lattice", settings=settings)
                steps = relative(plan.poses[1:], plan.poses[:-1])
                turned = np.maximum(np.abs(wrap_angle(steps[:, 2])), 1e-9)
                gone = np.sign(steps[:, 0]) * np.hypot(*steps[:, :2].T) * turned / (2.0 * np.sin(0.5 * turned))
                prices = [
                    np.where(each > 0.0, each, -reverse_price * each).sum()
                    + change_price * np.count_nonzero(np.diff(np.sign(each)))
                    for each in (gone, ways)
                ]
                with self.subTest(ways=ways, reverse_price=reverse_price):
                    self.assertLessEqual(prices[0], 1.08 * prices[1] + 0.01)
                    self.assertLess(plan.expanded, 1000)

    def test_a_lattice_gives_up_soon_where_the_body_fits_nowhere_and_not_where_it_just_does(self):
        # 0.72 m wide, but its origin is 0.3 m from its back: the door lets that through.
        forklift = read_robot(demo_file("forklift.toml"))
        for door, status in ((0.7, "gave up"), (0.75, "found")):
            costmap = price_floor(two_rooms(door), forklift)
            plan = plan_path(costmap, forklift, START, GOAL, method="lattice", explain=False)
            with self.subTest(door=door):
                self.assertEqual(plan.status, status)
                self.assertTrue(np.all(body_touches(costmap, forklift, plan.poses)[:, 0] < 0))
                # Without a look at where it fits, 75,865 of the room's poses were gone on from.
                self.assertLess(plan.expanded, 30_000 if status == "gave up" else 100_000)

    def test_left_turns_only(self):
        costmap = price_floor(two_rooms(1.6), robot())
        goal = np.array([2.5, 1.6, -np.pi / 2])
        for method in ("lattice", "rrt-star", "rrt-connect"):
            plan = plan_path(
                costmap, robot(), START, goal, method=method, motion=LeftTurnsOnly(0.7), settings=FEW, seed=3
            )
            with self.subTest(method=method):
                self.assertTrue(plan.found, plan.reason)
                self.assertTrue(np.all(wrap_angle(np.diff(plan.poses[:, 2])) >= -1e-9))

    def test_a_motion_of_ones_own_goes_with_the_planners_that_take_any(self):
        class Crab:
            """Slides in any direction without turning."""

            def lengths(self, starts, goals):
                a, b = np.atleast_2d(starts), np.atleast_2d(goals)
                return np.hypot(*(b - a)[:, :2].T)

            def poses(self, start, goal, spacing):
                shares = np.linspace(0.0, 1.0, max(int(np.ceil(self.lengths(start, goal)[0] / spacing)), 1) + 1)
                way = np.asarray(start) + shares[:, None] * (np.asarray(goal) - np.asarray(start))
                return np.column_stack([way[:, :2], np.zeros(len(way))])

        costmap = price_floor(two_rooms(1.6), robot())
        plan = plan_path(costmap, robot(), START, [8.5, 1.5, 0.0], method="rrt-connect", motion=Crab(), settings=FEW)
        self.assertTrue(plan.found, plan.reason)
        self.assertTrue(np.all(plan.poses[:, 2] == 0.0))
        for method in ("lattice", "rrt-star"):
            call = lambda method=method: plan_path(costmap, robot(), START, GOAL, method=method, motion=Crab())  # noqa: E731
            assert_input_error(self, call, "Crab", "rrt-connect")
        assert_input_error(
            self, lambda: plan_path(costmap, robot(), START, GOAL, method="a star"), "'a star'", "a-star"
        )

    def test_a_long_body_turns_where_lines_alone_will_not_do(self):
        costmap = price_floor(two_rooms(0.8), robot())
        tight = np.array([4.3, 3.0, 0.0])
        plan = plan_path(costmap, robot(), tight, [5.8, 3.0, np.pi], method="lattice")
        self.assertTrue(plan.found, plan.reason)
        self.assertIsInstance(ReedsSheppMotion(1.0).lengths(tight, GOAL), np.ndarray)


class Comparing(unittest.TestCase):
    def test_rows_tell_success_time_and_cost(self):
        problem = Problem(price_floor(two_rooms(1.2), robot()), robot(), START, GOAL)
        entries = entries_of(problem, "a-star,rrt", FEW, longest_edges=(1.0, 3.0), seeds=(5, 6))
        self.assertEqual(
            [entry.label for entry in entries],
            ["a-star", *(f"rrt, edges to {edge} m, seed {seed}" for edge in (1, 3) for seed in (5, 6))],
        )
        found = compare_planners(problem, [*entries, Entry("rrt", PlanSettings(iterations=2), name="hasty")], repeat=3)
        a_star, hasty = found.rows[0], found.rows[-1]
        self.assertEqual(len({plan.cost for plan in a_star.plans}), 1)
        self.assertGreater(len({plan.cost for plan in found.rows[1].plans}), 1)
        self.assertEqual((a_star.success, hasty.success), (1.0, 0.0))
        self.assertTrue(np.isnan(hasty.median("cost")))
        self.assertIs(found.cheapest, a_star)
        self.assertTrue(a_star.time > 0.0 and a_star.time_spread >= 0.0)
        self.assertTrue(any(a_star.best is plan for plan in a_star.plans))

    def test_what_cannot_be_compared_is_named(self):
        problem = Problem(price_floor(two_rooms(1.2), robot()), robot(), START, GOAL)
        for call, words in (
            (lambda: entries_of(problem, "a-star,best", FEW), ["'best'", "rrt-connect"]),
            (lambda: entries_of(problem, "rrt", FEW, longest_edges=[0.0]), ["longest edge", "above 0"]),
            (lambda: compare_planners(problem, ["rrt"], repeat=0), ["repeat", "1 or more"]),
        ):
            assert_input_error(self, call, *words)


if __name__ == "__main__":
    unittest.main()
