import itertools
import json
import unittest

import numpy as np
import shapely
from benchmarks.planning_yardsticks import scattered_rooms

from tests.support import altered_robot, assert_input_error, new_folder, robot, room
from vinecompass import Grid, Zone, plan_path, price_floor
from vinecompass.costs import body_touches
from vinecompass.planning import find_bottleneck, find_grid_path, write_plan
from vinecompass.settings import PlanSettings


def two_rooms(door=1.0):
    """Two rooms of 5 m x 6 m, joined by a door of some width in the wall between them."""
    grid = room(10.0, 6.0)
    gap = round(door / 0.05)
    grid.log_odds[:, 99:101] = 3.0
    grid.log_odds[60 - gap // 2 : 60 - gap // 2 + gap, 99:101] = -3.0
    return grid


class Plans(unittest.TestCase):
    start, goal = np.array([1.5, 1.5, 0.0]), np.array([8.5, 1.5, np.pi / 2])

    def plan(self, grid, **options):
        costmap = price_floor(grid, robot(), **options)
        return costmap, plan_path(costmap, robot(), self.start, self.goal)

    def test_the_whole_body_stays_off_everything_closed(self):
        for door in (0.8, 1.0, 1.6):
            with self.subTest(door=door):
                costmap, plan = self.plan(two_rooms(door))
                self.assertEqual((plan.status, plan.reason), ("found", ""))
                self.assertTrue(np.all(body_touches(costmap, robot(), plan.poses)[:, 0] < 0))
                self.assertTrue(0.0 < plan.least_clearance <= door / 2.0 - 0.31 + 1e-9)
                np.testing.assert_allclose(plan.poses[0], self.start)
                np.testing.assert_allclose(plan.poses[-1], self.goal)
                steps = np.diff(plan.poses[:, :2], axis=0)
                np.testing.assert_allclose(plan.poses[1:-1, 2], np.arctan2(*steps.T[::-1])[1:], atol=1e-9)
                self.assertAlmostEqual(plan.length, np.hypot(*steps.T).sum())
                self.assertLessEqual(plan.length, plan.cost)
                raw = find_grid_path(
                    costmap.prices, *map(tuple, costmap.grid.cells_at([self.start[:2], self.goal[:2]]))
                )
                self.assertLess(plan.cost, raw.cost * 0.05 * 1.001)

    def test_a_plan_on_a_turned_grid_is_the_turned_plan(self):
        straight, frame = two_rooms(), np.array([3.0, -2.0, 0.7])
        turned = Grid(straight.log_odds, 0.05, (3.0, -2.0), 0.7)
        _, plan = self.plan(straight)
        from vinecompass.geometry import compose

        other = plan_path(price_floor(turned, robot()), robot(), compose(frame, self.start), compose(frame, self.goal))
        np.testing.assert_allclose(other.cost, plan.cost, rtol=1e-3)
        np.testing.assert_allclose(other.poses[40], compose(frame, plan.poses[40]), atol=0.02)

    def test_beside_a_wall_it_leaves_in_a_direction_in_which_the_body_fits(self):
        costmap = price_floor(two_rooms(), robot())
        start = np.array([1.5, 0.4, 0.0])
        across = body_touches(costmap, robot(), [*start[:2], np.pi / 2])
        self.assertGreaterEqual(across[0, 0], 0, "turned towards the goal the body would touch the wall")
        plan = plan_path(costmap, robot(), start, np.array([1.5, 4.0, np.pi / 2]))
        self.assertTrue(plan.found, plan.reason)
        self.assertTrue(np.all(body_touches(costmap, robot(), plan.poses)[:, 0] < 0))

    def test_between_its_poses_a_long_body_touches_nothing_either_and_goes_on_arcs_where_it_cannot_turn(self):
        body = [(-0.75, -0.3), (0.75, -0.3), (0.75, 0.3), (-0.75, 0.3)]
        long, swift = altered_robot(robot(), body={"outline": body}), PlanSettings(iterations=2000)
        on_arcs = 0
        for seed in (3, 7, 12, 18, 21, 94):
            rng = np.random.default_rng(seed)
            grid = Grid(np.where(scattered_rooms(rng, 140), 3.0, -3.0).astype(np.float32), 0.05)
            costmap = price_floor(grid, long)
            corners = 0.05 * np.argwhere(costmap.forbidden)[:, ::-1]
            closed = shapely.STRtree(shapely.box(*corners.T, *(corners + 0.05).T))
            clear = np.argwhere(np.isfinite(costmap.prices))
            poses = np.column_stack([grid.points_of(rng.permutation(clear)[:99]), rng.uniform(-3.0, 3.0, 99)])
            start, goal = poses[body_touches(costmap, long, poses)[:, 0] < 0][:2]
            for method in (None, "rrt-connect", "lattice"):
                plan = plan_path(costmap, long, start, goal, method=method, settings=swift, seed=seed, explain=False)
                on_arcs += method is None and plan.method == "lattice"
                if not plan.found or plan.reason.startswith("no room"):
                    continue
                with self.subTest(seed=seed, method=method):
                    shares = np.linspace(0.0, 1.0, 20)[:, None, None]
                    xy = plan.poses[:-1, :2] + shares * np.diff(plan.poses[:, :2], axis=0)
                    turned = np.unwrap(plan.poses[:, 2])
                    along = np.exp(1j * (turned[:-1] + shares[..., 0] * np.diff(turned)))[..., None]
                    outline = xy[..., 0, None] + 1j * xy[..., 1, None] + along * [complex(*corner) for corner in body]
                    bodies = shapely.polygons(np.stack([outline.real, outline.imag], axis=-1).reshape(-1, 4, 2))
                    touching, cells = closed.query(bodies, "intersects")
                    overlap = shapely.area(shapely.intersection(bodies[touching], closed.geometries[cells]))
                    self.assertLess(overlap.max(initial=0.0), 1e-4, "square metres: a sliver of 5 mm at most")
        self.assertGreater(on_arcs, 0)

    def test_gaps_along_every_edge_of_the_map_are_passed_or_said_to_be_too_narrow(self):
        start, goal = np.array([2.0, 2.2, 0.0]), np.array([6.0, 2.2, 0.0])
        for gap, fits in ((0.65, False), (0.85, True)):
            for high, turned in itertools.product((False, True), repeat=2):
                with self.subTest(gap=gap, high=high, turned=turned):
                    cells = room(8.0, 4.0).log_odds
                    cells[1 : round(cells.shape[0] - gap / 0.05) - 1, 70:76] = 3.0
                    ends = [start, goal] if high else [np.array([x, 4.0 - y, 0.0]) for x, y, _ in (start, goal)]
                    cells = cells if high else cells[::-1]
                    if turned:
                        cells, ends = cells.T, [np.array([y, x, np.pi / 2]) for x, y, _ in ends]
                    costmap = price_floor(Grid(np.ascontiguousarray(cells), 0.05), robot())
                    plan = plan_path(costmap, robot(), *ends)
                    self.assertEqual(plan.found, fits, plan.reason)
                    if fits:
                        self.assertTrue(np.all(body_touches(costmap, robot(), plan.poses)[:, 0] < 0))

    def test_it_says_why_not(self):
        closed = Zone(name="pit", kind="closed", polygon=[(4, 0), (4.5, 0), (4.5, 6), (4, 6)])
        unknown, in_wall = two_rooms(), np.array([8.5, 0.1, 0.0])
        unknown.log_odds[:, 60:80] = 0.0
        for grid, zones, goal, status, words in (
            (two_rooms(0.5), (), self.goal, "no way", ["0.50 m wide", "4.98, 2.98", "needs 0.62 m"]),
            (two_rooms(0.0), (), self.goal, "no way", ["occupied stands between"]),
            (two_rooms(), (closed,), self.goal, "no way", ["the closed zone 'pit'"]),
            (unknown, (), self.goal, "no way", ["unknown floor", "3.02", "costs.unknown"]),
            (two_rooms(), (), in_wall, "goal closed", ["8.50, 0.10", "(occupied) at 8.53, 0.03", "nearest pose"]),
            (two_rooms(), (), np.array([8.5, 0.4, np.pi / 2]), "goal closed", ["at that heading"]),
        ):
            with self.subTest(words=words):
                plan = plan_path(price_floor(grid, robot(), zones=zones), robot(), self.start, goal)
                self.assertEqual((plan.status, plan.found, len(plan.poses)), (status, False, 0))
                for word in words:
                    self.assertIn(word, plan.reason)

    def test_the_bottleneck_is_the_door_in_the_way_and_as_wide(self):
        for door in (0.4, 0.5, 1.0):
            costmap = price_floor(two_rooms(door), robot())
            narrowest = find_bottleneck(costmap, (30, 30), (30, 170))
            self.assertAlmostEqual(narrowest.width, door, delta=0.051)
            self.assertLess(np.hypot(narrowest.x - 5.0, narrowest.y - 3.0), 0.3)

    def test_poses_that_are_none_are_named(self):
        costmap = price_floor(two_rooms(), robot())
        for goal, words in (([1.0, np.nan, 0.0], ["goal", "finite"]), ([50.0, 1.0, 0.0], ["goal", "off the map"])):
            assert_input_error(self, lambda goal=goal: plan_path(costmap, robot(), self.start, goal), *words)

    def test_a_plan_file_as_csv_and_as_geojson(self):
        _, plan = self.plan(two_rooms())
        folder = new_folder()
        table = np.genfromtxt(write_plan(plan, folder / "plan.csv"), delimiter=",", names=True)
        np.testing.assert_allclose(np.column_stack([table["x"], table["heading"]]), plan.poses[:, [0, 2]], atol=1e-6)
        feature = json.loads(write_plan(plan, folder / "plan.geojson").read_text())
        self.assertEqual(feature["geometry"]["type"], "LineString")
        assert_input_error(self, lambda: write_plan(plan, folder / "plan.doc"), ".csv or .geojson")


if __name__ == "__main__":
    unittest.main()
