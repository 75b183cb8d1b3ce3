import json
import unittest

import numpy as np
from scipy import ndimage, sparse
from scipy.sparse import csgraph

from tests.support import assert_input_error, new_folder, robot, room
from vinecompass import Grid, Zone, plan_path, price_floor
from vinecompass.costs import body_touches
from vinecompass.costs.kernels import line_price
from vinecompass.planning import find_bottleneck, find_grid_path, write_plan
from vinecompass.planning.grid_search import NO_WAYS


def random_prices(rng, shape=(40, 60)):
    prices = 1.0 + 6.0 * ndimage.gaussian_filter(rng.random(shape), 2.0)
    prices[rng.random(shape) < 0.25] = np.inf
    return prices.astype(np.float32)


def dijkstra_cost(prices, start, goal):
    """The optimum over the same steps, by SciPy."""
    rows, columns = prices.shape
    number = np.arange(prices.size).reshape(prices.shape)
    ends, costs = [], []
    for dr, dc in ((0, 1), (1, 0), (1, 1), (1, -1)):
        here = np.s_[0 : rows - dr, max(0, -dc) : columns - max(0, dc)]
        there = np.s_[dr:rows, max(0, dc) : columns - max(0, -dc)]
        cost = 0.5 * np.hypot(dr, dc) * (prices[here].astype(float) + prices[there])
        if dr and dc:
            beside = np.s_[0 : rows - dr, max(0, dc) : columns - max(0, -dc)]
            below = np.s_[dr:rows, max(0, -dc) : columns - max(0, dc)]
            cost = np.where(np.isinf(prices[beside]) | np.isinf(prices[below]), np.inf, cost)
        fine = np.isfinite(cost)
        ends.append(np.stack([number[here][fine], number[there][fine]]))
        costs.append(cost[fine])
    a, b = np.hstack(ends)
    graph = sparse.coo_array((np.concatenate(costs), (a, b)), shape=(prices.size,) * 2).tocsr()
    return csgraph.dijkstra(graph, directed=False, indices=number[start])[number[goal]]


class GridSearchAgainstScipy(unittest.TestCase):
    def test_it_finds_the_optimum_and_no_way_where_there_is_none(self):
        rng, found = np.random.default_rng(13), 0
        for trial in range(40):
            prices = random_prices(rng)
            start, goal = (tuple(cell) for cell in rng.permutation(np.argwhere(np.isfinite(prices)))[:2])
            path, wanted = find_grid_path(prices, start, goal), dijkstra_cost(prices, start, goal)
            with self.subTest(trial=trial):
                if np.isinf(wanted):
                    self.assertEqual((len(path.cells), path.cost), (0, np.inf))
                    continue
                found += 1
                self.assertAlmostEqual(path.cost / wanted, 1.0, places=5)
                self.assertEqual((tuple(path.cells[0]), tuple(path.cells[-1])), (start, goal))
                steps = np.abs(np.diff(path.cells, axis=0))
                self.assertTrue(np.all(steps.max(axis=1) == 1))
        self.assertGreater(found, 20)

    def test_bad_prices_and_ends_are_named(self):
        prices = np.ones((5, 5))
        for change, words in ((0.5, ["0.5", "1 or more"]), (np.nan, ["nan"])):
            spoilt = prices.copy()
            spoilt[2, 2] = change
            assert_input_error(self, lambda spoilt=spoilt: find_grid_path(spoilt, (0, 0), (4, 4)), "prices", *words)
        assert_input_error(self, lambda: find_grid_path(prices, (0, 0), (5, 4)), "goal", "(5, 4)")
        self.assertEqual(find_grid_path(np.full((3, 3), np.inf), (0, 0), (2, 2)).cost, np.inf)

    def test_the_price_of_a_line_is_the_integral_along_it(self):
        rng = np.random.default_rng(14)
        prices = (1.0 + rng.random((30, 30))).astype(np.float32)
        for _ in range(30):
            a, b = rng.uniform(1.0, 29.0, (2, 2))
            points = a + np.linspace(0.0, 1.0, 200_001)[:, None] * (b - a)
            sampled = prices[tuple(np.floor(points).astype(int).T[::-1])].mean() * np.hypot(*(b - a))
            self.assertAlmostEqual(line_price(prices, NO_WAYS, *a, *b), sampled, places=3)
        prices[10, 10] = np.inf
        self.assertEqual(line_price(prices, NO_WAYS, 9.5, 11.5, 11.5, 9.5), np.inf)
        self.assertEqual(
            line_price(prices, NO_WAYS, 9.5, 10.5, 10.5, 11.5), np.inf, "through the corner of a closed cell"
        )


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
