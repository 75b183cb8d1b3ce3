import dataclasses
import unittest

import numpy as np
import shapely
from scipy import ndimage

from tests.support import assert_input_error, new_folder, robot, room
from vinecompass import Grid, Zone, price_floor
from vinecompass.costs import CostSettings, body_clearance, body_touches, write_costmap
from vinecompass.geometry import transform_points


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
        touched = body_touches(costmap, robot(), poses)
        np.testing.assert_array_equal(touched[:, 0] >= 0, wanted)
        self.assertTrue(0.2 < wanted.mean() < 0.98)
        self.assertTrue(np.all(costmap.forbidden[tuple(touched[wanted].T)]))
        few = poses[:150]
        everything = shapely.union_all(squares(costmap))
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

    def test_unknown_floor_is_closed_or_free_by_choice(self):
        grid = room()
        grid.log_odds[30:50, 40:60] = 0.0
        for unknown, closed in (("closed", True), ("free", False)):
            costmap = price_floor(grid, robot(), settings=CostSettings(unknown=unknown))
            self.assertEqual(bool(np.isinf(costmap.prices[40, 50])), closed)

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
