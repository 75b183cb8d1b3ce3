import unittest

import numpy as np
from benchmarks.planning_yardsticks import scattered_rooms, scipy_costs, visibility_length
from benchmarks.replanning import what_differs
from scipy import ndimage

from tests.support import assert_input_error
from vinecompass import CostToGo, Grid
from vinecompass.costs import CostMap
from vinecompass.costs.kernels import NO_WAYS, line_price
from vinecompass.planning import PreparedFloor, find_any_angle_path, find_grid_path
from vinecompass.planning.search.grid_search import GridSearch


def random_prices(rng, shape=(40, 60), kind="hills"):
    """Prices with a quarter of the cells closed: smooth hills, all ones, or three plateaus."""
    hills = 1.0 + 6.0 * ndimage.gaussian_filter(rng.random(shape), 2.0)
    prices = {"hills": hills, "plain": np.ones(shape), "plateaus": 1.0 + np.round((hills - hills.min()) * 2.0)}[kind]
    prices[rng.random(shape) < 0.25] = np.inf
    return prices.astype(np.float32)


def two_open(rng, prices):
    return (tuple(int(v) for v in cell) for cell in rng.permutation(np.argwhere(np.isfinite(prices)))[:2])


def path_cost(prices, cells):
    along = prices[cells[:, 0], cells[:, 1]].astype(float)
    return float(np.sum(np.hypot(*np.diff(cells, axis=0).T) * (along[:-1] + along[1:]) / 2.0))


class GridSearchAgainstScipy(unittest.TestCase):
    def test_both_searches_find_the_optimum_and_no_way_where_there_is_none(self):
        rng, found = np.random.default_rng(13), 0
        for trial in range(36):
            prices = random_prices(rng, kind=("hills", "plain", "plateaus")[trial % 3])
            one_way = None
            if trial % 4 == 3:
                one_way = np.full(prices.shape, np.nan, np.float32)
                one_way[:, 20:30] = rng.uniform(-np.pi, np.pi)
            start, goal = two_open(rng, prices)
            wanted = scipy_costs(prices, start, one_way)[goal]
            for bounded in (True, False):
                with self.subTest(trial=trial, bounded=bounded):
                    path = find_grid_path(prices, start, goal, one_way=one_way, bounded=bounded)
                    if np.isinf(wanted):
                        self.assertEqual((len(path.cells), path.cost), (0, np.inf))
                        continue
                    found += 1
                    self.assertAlmostEqual(path.cost / wanted, 1.0, places=9)
                    self.assertAlmostEqual(path_cost(prices, path.cells) / wanted, 1.0, places=6)
                    self.assertEqual((tuple(path.cells[0]), tuple(path.cells[-1])), (start, goal))
                    self.assertTrue(np.all(np.abs(np.diff(path.cells, axis=0)).max(axis=1) == 1))
        self.assertGreater(found, 40)

    def test_a_prepared_floor_gives_what_scipy_gives_also_after_changes_of_every_kind(self):
        rng, seen = np.random.default_rng(17), []
        for trial in range(24):
            prices = random_prices(rng, kind=("hills", "plain", "plateaus")[trial % 3])
            one_way = None
            if trial % 4 == 3:
                one_way = np.full(prices.shape, np.nan, np.float32)
                one_way[:, 20:30] = rng.uniform(-np.pi, np.pi)
            shut = np.isinf(prices)
            floor = PreparedFloor(
                CostMap(Grid(np.zeros(prices.shape, np.float32), 0.1), prices, shut, prices, {}, one_way=one_way)
            )
            for change in range(3):
                start, goal = two_open(rng, floor.prices)
                wanted = scipy_costs(floor.prices, start, one_way)[goal]
                with self.subTest(trial=trial, change=change):
                    path = floor.path(start, goal)
                    seen.append((floor.bounded_by_landmarks, np.isfinite(path.cost)))
                    if np.isinf(wanted):
                        self.assertEqual((len(path.cells), path.cost), (0, np.inf))
                    else:
                        self.assertAlmostEqual(path.cost / wanted, 1.0, places=9)
                # Something is seen, which makes floor dear or closes it; then, now and then, a door is opened.
                window = floor.prices[10:22, 15:40] * rng.choice(np.array([1.0, 2.0, np.inf], np.float32), (12, 25))
                floor.change((10, 15), window if change == 0 or trial % 2 else np.ones((12, 25)))
        self.assertEqual(set(seen), {(True, True), (True, False), (False, True), (False, False)})
        for call in (lambda: floor.change((35, 50), np.ones((9, 9))), lambda: floor.change((0, 0), [[0.5]])):
            assert_input_error(self, call, "prices")

    def test_one_search_serves_many_targets(self):
        rng = np.random.default_rng(5)
        prices = random_prices(rng)
        start = next(two_open(rng, prices))
        wanted, search = scipy_costs(prices, start), GridSearch(prices, start)
        for row, column in np.argwhere(np.isfinite(wanted))[::97]:
            search.grow((row, column))
            self.assertAlmostEqual(search.cost_to((row, column)), wanted[row, column], places=6)
        search.grow()
        np.testing.assert_array_equal(search.explored, np.isfinite(wanted))

    def test_towards_the_goal_it_looks_at_less(self):
        prices = np.ones((200, 200), np.float32)
        towards = find_grid_path(prices, (100, 20), (100, 180))
        around = find_grid_path(prices, (100, 20), (100, 180), bounded=False)
        self.assertLess(towards.expanded, around.expanded / 20)

    def test_bad_prices_and_ends_are_named(self):
        prices = np.ones((5, 5))
        for change, words in ((0.5, ["0.5", "1 or more"]), (np.nan, ["nan"])):
            spoilt = prices.copy()
            spoilt[2, 2] = change
            assert_input_error(self, lambda spoilt=spoilt: find_grid_path(spoilt, (0, 0), (4, 4)), "prices", *words)
            field = CostToGo(prices, (0, 0))
            assert_input_error(self, lambda c=change, f=field: f.change((1, 1), [[c]]), "prices", "1 or more")
        assert_input_error(self, lambda: find_grid_path(prices, (0, 0), (5, 4)), "goal", "(5, 4)")
        assert_input_error(self, lambda: CostToGo(prices, (9, 0)), "(9, 0)")
        assert_input_error(self, lambda: CostToGo(prices, (0, 0)).change((4, 4), np.ones((2, 2))), "off the grid")
        self.assertEqual(find_grid_path(np.full((3, 3), np.inf), (0, 0), (2, 2)).cost, np.inf)

    def test_the_price_of_a_line_is_the_integral_along_it(self):
        rng = np.random.default_rng(14)
        prices = (1.0 + rng.random((30, 30))).astype(np.float32)
        for _ in range(30):
            a, b = rng.uniform(1.0, 29.0, (2, 2))
            points = a + np.linspace(0.0, 1.0, 200_001)[:, None] * (b - a)
            sampled = prices[tuple(np.floor(points).astype(int).T[::-1])].mean() * np.hypot(*(b - a))
            self.assertAlmostEqual(line_price(prices, NO_WAYS, *a, *b), sampled, places=3)
        east = np.full(prices.shape, np.nan, np.float32)
        east[10:20] = 0.0
        self.assertLess(line_price(prices, east, 5.5, 5.5, 9.5, 25.5), np.inf, "it leans east")
        self.assertEqual(line_price(prices, east, 9.5, 5.5, 5.5, 25.5), np.inf, "and back it would go west")
        prices[10, 10] = np.inf
        self.assertEqual(line_price(prices, NO_WAYS, 9.5, 11.5, 11.5, 9.5), np.inf)
        beside = line_price(prices, NO_WAYS, 9.5, 10.5, 10.5, 11.5)
        self.assertEqual(beside, np.inf, "through the corner of a closed cell")


class MendedPlansAgainstPlanningAnew(unittest.TestCase):
    def test_after_any_changes_they_cost_the_same(self):
        rng, compared = np.random.default_rng(5), 0
        for trial in range(30):
            kind = ("hills", "plain", "plateaus")[trial % 3]
            prices = random_prices(rng, kind=kind)
            start, goal = two_open(rng, prices)
            field = CostToGo(prices, goal)
            field.plan(start)
            for change in range(6):
                first = int(rng.integers(0, 30)), int(rng.integers(0, 45))
                window = random_prices(rng, kind=kind)[: rng.integers(1, 11), : rng.integers(1, 16)]
                field.change(first, window)
                here = next(two_open(rng, field.prices)) if change % 2 else start
                if np.isinf(field.prices[here]):
                    continue
                wanted, path = scipy_costs(field.prices, here)[goal], field.plan(here)
                with self.subTest(trial=trial, change=change):
                    compared += 1
                    if np.isinf(wanted):
                        self.assertEqual((path.cost, len(path.cells)), (np.inf, 0))
                    else:
                        self.assertAlmostEqual(path.cost / wanted, 1.0, places=9)
                        self.assertAlmostEqual(path_cost(field.prices, path.cells) / wanted, 1.0, places=6)
        self.assertGreater(compared, 120)

    def test_it_ends_and_is_right_on_tiny_floors_that_change_with_one_way_zones_or_without(self):
        self.assertEqual([told for seed in range(400) for told in what_differs(seed)], [])

    def test_a_goal_closed_for_a_while_and_one_way_floor(self):
        prices = np.ones((20, 30), np.float32)
        field = CostToGo(prices, (10, 25))
        self.assertAlmostEqual(field.plan((10, 5)).cost, 20.0)
        field.change((10, 25), [[np.inf]])
        self.assertEqual(field.plan((10, 5)).cost, np.inf)
        field.change((10, 25), [[1.0]])
        self.assertAlmostEqual(field.plan((10, 5)).cost, 20.0)
        west = np.full(prices.shape, np.nan, np.float32)
        west[:, 15] = np.pi
        self.assertEqual(CostToGo(prices, (10, 25), west).plan((10, 5)).cost, np.inf, "nothing may go east there")
        self.assertAlmostEqual(CostToGo(prices, (10, 5), west).plan((10, 25)).cost, 20.0)

    def test_far_from_the_goal_it_touches_little(self):
        field = CostToGo(np.ones((300, 300), np.float32), (150, 290))
        first = field.plan((150, 10))
        field.change((140, 20), np.full((20, 3), np.inf))
        again = field.plan((150, 10))
        self.assertGreater(again.cost, first.cost)
        self.assertLess(again.expanded, first.expanded / 5)


class AnyAngleAgainstTheVisibilityGraph(unittest.TestCase):
    def test_paths_are_at_most_one_per_cent_longer(self):
        rng, checked = np.random.default_rng(8), 0
        while checked < 5:
            closed = scattered_rooms(rng, 120)
            start, goal = two_open(rng, np.where(closed, np.inf, 1.0))
            optimum = visibility_length(closed, start, goal)
            if 40.0 < optimum < np.inf:
                checked += 1
                prices = np.where(closed, np.inf, 1.0).astype(np.float32)
                path = find_any_angle_path(prices, start, goal)
                with self.subTest(map=checked):
                    self.assertTrue(optimum * (1.0 - 1e-4) <= path.cost <= optimum * 1.01)
                    self.assertAlmostEqual(path.cost, np.hypot(*np.diff(path.points, axis=0).T).sum(), places=4)

    def test_on_priced_floor_it_is_no_dearer_than_the_grid_allows(self):
        rng = np.random.default_rng(9)
        for _ in range(6):
            prices = random_prices(rng)
            start, goal = two_open(rng, prices)
            grid, lines = find_grid_path(prices, start, goal), find_any_angle_path(prices, start, goal)
            self.assertEqual(np.isinf(grid.cost), np.isinf(lines.cost))
            if np.isfinite(grid.cost):
                self.assertLess(lines.cost, 1.02 * grid.cost)


if __name__ == "__main__":
    unittest.main()
