import dataclasses
import unittest

import numpy as np
import shapely
from scipy import ndimage

from tests.support import assert_input_error, new_folder, robot, room
from vinecompass import Grid, Zone, plan_path, price_floor
from vinecompass.contact import Walking
from vinecompass.costs import FALLS, LiveCosts, body_clearance, body_touches, price_at_gap, write_costmap
from vinecompass.geometry import transform_points
from vinecompass.grids import Beams, zone_cells
from vinecompass.settings import CostSettings


def cluttered(turn=0.0):
    """Ten metres by eight of free floor with two hundred single occupied cells."""
    grid, rng = room(10.0, 8.0), np.random.default_rng(11)
    log_odds = grid.log_odds.copy()
    log_odds[rng.integers(0, 160, 200), rng.integers(0, 200, 200)] = 3.0
    return Grid(log_odds, 0.05, (2.0, -1.0), turn)


def squares(costmap):
    grid, half = costmap.grid, costmap.grid.cell_size / 2.0
    corners = transform_points([0, 0, grid.turn], [[-half, -half], [half, -half], [half, half], [-half, half]])
    return shapely.polygons(grid.points_of(np.argwhere(costmap.forbidden))[:, None] + corners)


class BodyCheckAgainstShapely(unittest.TestCase):
    def test_two_thousand_poses_on_a_turned_grid(self):
        costmap = price_floor(cluttered(0.4), robot())
        rng = np.random.default_rng(12)
        centre = transform_points(costmap.grid.frame, [[5.0, 4.0]])[0]
        poses = np.column_stack([centre + rng.uniform(-3.5, 3.5, (2000, 2)), rng.uniform(-np.pi, np.pi, 2000)])
        tree = shapely.STRtree(squares(costmap))
        bodies = [shapely.Polygon(transform_points(pose, robot().body.polygon)) for pose in poses]
        wanted = np.zeros(len(poses), bool)
        wanted[np.unique(tree.query(bodies, predicate="intersects")[0])] = True
        # Off the map is unknown floor, which is closed.
        on_map = shapely.Polygon(costmap.grid.corner_points)
        over = np.array([not on_map.contains(body) for body in bodies])
        touched = body_touches(costmap, robot(), poses)
        np.testing.assert_array_equal(touched[:, 0] >= 0, wanted | over)
        self.assertTrue(0.2 < wanted.mean() < 0.98)
        self.assertTrue(np.all(costmap.forbidden[tuple(touched[wanted].T)]))
        few = poses[:150]
        everything = shapely.union_all([*squares(costmap), on_map.buffer(9.0).difference(on_map)])
        distances = [min(everything.distance(body), 1.5) for body in bodies[:150]]
        np.testing.assert_allclose(body_clearance(costmap, robot(), few), distances, atol=1e-9)

    def test_with_nothing_near_everything_is_clear(self):
        costmap = price_floor(Grid(np.full((200, 200), -3.0, np.float32), 0.05), robot())
        self.assertEqual(body_touches(costmap, robot(), [[5.0, 5.0, 1.0]]).tolist(), [[-1, -1]])
        self.assertEqual(body_clearance(costmap, robot(), [[5.0, 5.0, 1.0]]).tolist(), [1.5])


class Prices(unittest.TestCase):
    def test_they_fall_as_documented_from_contact_to_comfort(self):
        settings = CostSettings(contact_price=5.0, comfort=0.5)
        costmap = price_floor(cluttered(), robot(), settings=settings)
        gap = ndimage.distance_transform_edt(~costmap.forbidden) * 0.05 - robot().body.inner_radius - 0.025
        wanted = np.where(gap < 0.0, np.inf, 1.0 + 4.0 * np.clip(1.0 - gap / 0.5, 0.0, 1.0) ** 2)
        sure = np.abs(gap) > 1e-5
        np.testing.assert_allclose(costmap.prices[sure], wanted[sure], rtol=1e-5)

    def test_a_window_is_the_floor_there_and_a_copy(self):
        corners = [(3.5, -0.2), (5.0, -0.2), (5.0, 0.8), (3.5, 0.8)]
        one_way = Zone(name="lane", kind="one-way", heading_deg=30.0, polygon=corners)
        for zones in ((), (one_way,)):
            with self.subTest(zones=len(zones)):
                costmap = price_floor(cluttered(), robot(), zones=zones)
                window = costmap.window((12, 20), (40, 66))
                block = np.s_[12:40, 20:66]
                # Where its cells lie on the site is where they lay before.
                cells = np.argwhere(np.ones((28, 46), bool))
                np.testing.assert_allclose(window.grid.points_of(cells), costmap.grid.points_of(cells + [12, 20]))
                whole = [costmap.prices, costmap.forbidden, costmap.clearance]
                parts = [window.prices, window.forbidden, window.clearance]
                if zones:
                    whole, parts = [*whole, costmap.one_way], [*parts, window.one_way]
                for of_whole, of_window in zip(whole, parts, strict=True):
                    np.testing.assert_array_equal(of_window, of_whole[block])
                    self.assertTrue(of_window.flags.c_contiguous)
                    self.assertFalse(np.shares_memory(of_window, of_whole))

    def test_every_fall_goes_down_from_contact_to_comfort_as_its_formula_says(self):
        gap = np.linspace(-0.2, 1.2, 141).astype(np.float32)
        formulas = {
            "line": lambda share: 1.0 - share,
            "parabola": lambda share: (1.0 - share) ** 2,
            "exponential": lambda share: (0.01**share - 0.01) / 0.99,
        }
        self.assertEqual(set(formulas), set(FALLS))
        for fall, formula in formulas.items():
            with self.subTest(fall=fall):
                prices = price_at_gap(gap, contact_price=9.0, comfort=0.8, fall=fall)
                wanted = np.where(gap < 0.0, np.inf, 1.0 + 8.0 * formula(np.clip(gap / 0.8, 0.0, 1.0)))
                np.testing.assert_allclose(prices, wanted, rtol=1e-4)
                self.assertTrue(np.all(np.diff(prices[gap >= 0.0]) <= 1e-6))
                costmap = price_floor(room(), robot(), settings=CostSettings(fall=fall, contact_price=9.0))
                self.assertLess(costmap.prices.max(where=np.isfinite(costmap.prices), initial=1.0), 9.001)

    def test_unknown_floor_is_closed_dear_or_free_by_choice(self):
        grid = room()
        grid.log_odds[30:50, 40:60] = 0.0
        for unknown, price in (("closed", np.inf), ("dear", 2.5), ("free", 1.0)):
            costmap = price_floor(grid, robot(), settings=CostSettings(unknown=unknown, unknown_price=2.5))
            self.assertEqual(float(costmap.prices[40, 50]), price)
            self.assertIn(f'costs.unknown = "{unknown}"', costmap.explain(2.52, 2.02)["map"].why)

    def test_closed_zones_close_every_cell_that_they_touch_however_thin_and_lines_as_well(self):
        rng = np.random.default_rng(3)
        cells = np.argwhere(np.ones((30, 40), bool))
        square = 0.5 * np.array([[-1, -1], [-1, 1], [1, 1], [1, -1]])
        for trial in range(40):
            grid = Grid(np.full((30, 40), -3.0, np.float32), 0.1, (0.3, -0.7), float(rng.uniform(-3.0, 3.0)))
            middle = grid.points_of([[15, 20]])[0] + rng.normal(0.0, 1.0, 2)
            length, width, turn = 1.5, 10.0 ** rng.uniform(-3.0, 0.0), rng.uniform(0.0, np.pi)
            strip = np.array([[-length, -width], [length, -width], [length, width], [-length, width]])
            corners = strip[[0, 2]] if trial % 4 == 0 else strip
            polygon = transform_points([*middle, turn], corners).tolist()
            zone = Zone(name="strip", kind="closed", polygon=[tuple(corner) for corner in polygon])
            squares = shapely.polygons(grid.points_of((cells[:, None] + square).reshape(-1, 2)).reshape(-1, 4, 2))
            touched = shapely.intersects(zone.area, squares).reshape(grid.shape)
            np.testing.assert_array_equal(zone_cells(grid, zone), touched)
        grid = Grid(np.full((60, 120), -3.0, np.float32), 0.05)
        for polygon in ([(3.01, -1.0), (3.012, -1.0), (3.012, 5.0), (3.01, 5.0)], [(3.0, -1.0), (3.0, 5.0)]):
            costmap = price_floor(grid, robot(), zones=[Zone(name="rope", kind="closed", polygon=polygon)])
            self.assertFalse(plan_path(costmap, robot(), [1.0, 1.5, 0.0], [5.0, 1.5, 0.0]).found)
            self.assertIn("rope", costmap.explain(3.0, 1.5)["zones"].why)
        for wrong in ({"kind": "dear", "factor": 2.0}, {"kind": "closed", "polygon": [(1.0, 1.0), (1.0, 1.0)]}):
            assert_input_error(self, lambda: Zone(**{"name": "a", "polygon": [(0, 0), (1, 1)]} | wrong), "line")  # noqa: B023

    def test_slow_zones_cost_their_time_and_one_way_zones_have_a_heading(self):
        corners = [(2, 2), (4, 2), (4, 4), (2, 4)]
        slow = Zone(name="wet", kind="slow", speed=0.5, polygon=corners)
        gate = Zone(name="gate", kind="one-way", heading_deg=90.0, polygon=[(5, 2), (6, 2), (6, 4), (5, 4)])
        grid = Grid(room(10.0, 8.0).log_odds, 0.05, (0.0, 0.0), 0.0)
        costmap = price_floor(grid, robot(), zones=[slow, gate])
        self.assertAlmostEqual(costmap.explain(3.0, 3.0)["zones"].factor, robot().drive.top_speed / 0.5, places=5)
        self.assertEqual(costmap.explain(3.0, 3.0)["zones"].why, "slow zone 'wet'")
        self.assertAlmostEqual(float(grid.values_at([[5.5, 3.0]], costmap.one_way, np.nan)[0]), np.pi / 2, places=6)
        self.assertTrue(np.isnan(grid.values_at([[3.0, 3.0]], costmap.one_way, 0.0)[0]))
        self.assertIsNone(price_floor(grid, robot(), zones=[slow]).one_way)
        brisk = Zone(name="dry", kind="slow", speed=9.0, polygon=corners)
        self.assertEqual(price_floor(grid, robot(), zones=[brisk]).explain(3.0, 3.0)["zones"].factor, 1.0)

    def test_people_cost_most_where_they_are_and_more_ahead_than_behind(self):
        settings = CostSettings(people_price=6.0, people_spread=0.4, people_lookahead=1.0)
        walking, standing = Walking(5.0, 4.0, 0.0, 1.0), Walking(8.5, 2.0)
        costmap = price_floor(room(10.0, 8.0), robot(), people=[walking, standing], settings=settings)

        def egg(x, y):
            return costmap.explain(x, y)["people"].factor

        def bell(away, spread):
            return 1.0 + 5.0 * np.exp(-0.5 * (away / spread) ** 2)

        for point, wanted in (
            ((5.025, 5.025), bell(1.025, 1.4)),
            ((5.025, 3.025), bell(0.975, 0.4)),
            ((8.525, 2.525), bell(0.525, 0.4)),
        ):
            self.assertAlmostEqual(egg(*point), wanted, delta=0.02 * wanted)
        self.assertAlmostEqual(egg(5.025, 4.025), 6.0, delta=0.1)
        self.assertEqual(egg(1.0, 1.0), 1.0)
        self.assertIn("walking at 1.0 m/s", costmap.explain(5.0, 5.0)["people"].why)
        self.assertFalse(np.any(np.isinf(costmap.layers["people"])), "people are never walls")
        # Beside the wall on their left, the dear side of who walks is there, and not on the right as a rule.
        for x, dear in ((5.0, "right"), (1.2, "left")):
            layer = price_floor(room(10.0, 8.0), robot(), people=[Walking(x, 3.0, 0.0, 1.0)]).layers["people"]
            left, right = (layer[60, int((x + side) / 0.05)] for side in (-0.8, 0.8))
            self.assertGreater(*((right, left) if dear == "right" else (left, right)))

    def test_a_layer_that_charges_too_little_is_named(self):
        @dataclasses.dataclass(frozen=True)
        class Wrong:
            factors: np.ndarray
            name: str = "carpet"

            def charge(self, grid, robot):
                return self.factors

        shape = room().shape
        for factors, words in (
            (np.full(shape, 0.5, np.float32), ["carpet", "0.5", "1 or more"]),
            (np.full(shape, np.nan, np.float32), ["carpet", "nan"]),
            (np.ones((3, 3), np.float32), ["carpet", "(3, 3)"]),
        ):
            call = lambda factors=factors: price_floor(room(), robot(), extra_layers=[Wrong(factors)])  # noqa: E731
            assert_input_error(self, call, *words)
        plain = np.ones(shape, np.float32)
        for names in (["map"], ["zones"], ["clearance"], ["people"], ["rug", "rug"]):
            layers = [Wrong(plain, name) for name in names]
            for take in (price_floor, LiveCosts):
                with self.subTest(names, take=take):
                    assert_input_error(self, lambda: take(room(), robot(), extra_layers=layers), names[0], "own")  # noqa: B023

    def test_what_is_nowhere_is_refused(self):
        beam = Beams(np.zeros((1, 2)), np.ones((1, 2)), np.ones(1, bool))
        for call, words in (
            (lambda: price_floor(room(), robot(), obstacles=[[np.nan, 1.0]]), ["obstacles", "metres"]),
            (lambda: Walking(np.inf, 0.0), ["x = inf", "finite"]),
            (lambda: LiveCosts(room(), robot()).see(0.0, [np.nan, 1.0, 0.0], beam), ["pose of 'scans'", "finite"]),
        ):
            assert_input_error(self, call, *words)

    def test_explanations_name_the_floor_that_closes_and_how_far_it_is(self):
        costmap = price_floor(room(), robot())
        why = costmap.explain(0.2, 2.0)["clearance"]
        self.assertEqual(why.factor, np.inf)
        self.assertIn("layer 'map' at 0.03, 2.0", why.why)
        self.assertIn("0.20 m from", why.why)
        self.assertEqual(costmap.explain(3.0, 2.0)["map"].why, "free")
        self.assertEqual(costmap.explain(0.01, 2.0)["map"].why, "occupied")

    def test_zones_obstacles_and_a_layer_of_ones_own_are_explained(self):
        @dataclasses.dataclass(frozen=True)
        class Incline:
            name: str = "incline"

            def charge(self, grid, robot):
                return np.full(grid.shape, 1.5, np.float32)

        zones = [
            Zone(name="press", kind="dear", factor=3.0, polygon=[(1, 1), (3, 1), (3, 3), (1, 3)]),
            Zone(name="pit", kind="closed", polygon=[(4, 1), (5, 1), (5, 2), (4, 2)]),
        ]
        grid = room(10.0, 8.0)
        costmap = price_floor(grid, robot(), zones=zones, obstacles=[[8.02, 6.02]], extra_layers=[Incline()])
        self.assertEqual(
            {name: charge.factor for name, charge in costmap.explain(2.0, 2.0).items()},
            {"map": 1.0, "zones": 3.0, "incline": 1.5, "obstacles": 1.0, "clearance": 1.0},
        )
        self.assertAlmostEqual(float(costmap.prices[40, 40]), 4.5)
        self.assertEqual(costmap.explain(4.5, 1.5)["zones"].factor, np.inf)
        self.assertEqual(costmap.explain(8.02, 6.02)["obstacles"].factor, np.inf)
        self.assertEqual(costmap.explain(8.2, 6.02)["clearance"].factor, np.inf)
        self.assertEqual(costmap.explain(99.0, 0.0), {})

    def test_a_costmap_file_opens_with_numpy_alone(self):
        costmap, path = price_floor(room(), robot()), new_folder() / "costmap.npz"
        write_costmap(costmap, path)
        with np.load(path, allow_pickle=False) as archive:
            np.testing.assert_array_equal(archive["prices"], costmap.prices)
            np.testing.assert_array_equal(archive["layer_clearance"], costmap.layers["clearance"])
            self.assertEqual(str(archive["format"]), "vinecompass costmap")
        assert_input_error(self, lambda: write_costmap(costmap, path.with_suffix(".tif")), ".npz")


if __name__ == "__main__":
    unittest.main()
