import json
import unittest

import numpy as np

from tests.support import assert_input_error, demo, new_folder, robot, run
from vinecompass import plan_path, price_floor
from vinecompass.grids import grid_from_polygons
from vinecompass.settings import CostSettings
from vinecompass.tuning import ShownWay, learn_prices, unexplained_places, ways_apart
from vinecompass.tuning.shown_prices import plan_beside


def hall():
    """A hall of 16 m x 10 m with pillars that a way may pass near or far."""
    pillars = [(4.0, 3.0), (4.0, 6.5), (8.0, 5.0), (11.5, 3.0), (11.5, 7.0)]
    boxes = [[(x, y), (x + 0.6, y), (x + 0.6, y + 0.6), (x, y + 0.6)] for x, y in pillars]
    return grid_from_polygons([(0, 0), (16, 0), (16, 10), (0, 10)], boxes, cell_size=0.05)


def planned(grid, settings, ends):
    """The ways that plans take under settings."""
    costmap = price_floor(grid, robot(), settings=settings)
    straight = [ShownWay.through(f"way {i}", np.array(pair)) for i, pair in enumerate(ends)]
    return [ShownWay.through(way.name, plan_beside(costmap, robot(), way).poses) for way in straight]


class Learning(unittest.TestCase):
    def test_hidden_prices_are_found_back_on_ways_held_back(self):
        ends = [((1, 1), (15, 9)), ((1, 9), (15, 1)), ((1.5, 5), (15, 5)), ((6, 1), (6.5, 9)), ((14, 1), (2, 1.2))]
        hidden = CostSettings(contact_price=25.0, comfort=1.3, fall="line")
        found = learn_prices(hall(), robot(), planned(hall(), hidden, ends), seed=1)
        before, after = found.apart(held_back=True)
        self.assertEqual([each.held_back for each in found.ways], [False, True, False, False, True])
        self.assertLess(after, 0.10)
        self.assertLess(after, 0.5 * before)
        self.assertTrue(found.is_nearer)
        self.assertAlmostEqual(found.settings.comfort, 1.3, delta=0.2)

    def test_a_detour_that_no_price_explains_is_told_with_the_zone_that_does(self):
        # The floor is the same on both sides of the pillars; the way shown goes round by the far one.
        way = ShownWay.through("round", np.array([(1.5, 5.0), (1.5, 8.8), (14.5, 8.8), (14.5, 5.0)]))
        found = learn_prices(hall(), robot(), [way])
        (place,) = unexplained_places(hall(), robot(), found)
        self.assertGreater(place.off, 1.0)
        costmap = price_floor(hall(), robot(), zones=[place.zone], settings=found.settings)
        plan = plan_path(costmap, robot(), way.poses[0], way.poses[-1], explain=False)
        self.assertLess(ways_apart(plan.poses, way.poses), 0.5 * found.ways[0].apart_after)

    def test_what_shows_nothing_is_named(self):
        tour = ShownWay.through("tour", np.array([(1, 1), (15, 1), (15, 9), (1, 9), (1, 2.5)]))
        for key, ways in (("ways", []), ("tour", [tour])):
            assert_input_error(self, lambda ways=ways: learn_prices(hall(), robot(), ways), key)


class OnTheCommandLine(unittest.TestCase):
    def test_a_way_that_was_driven_and_one_that_was_drawn(self):
        folder, (made, _) = new_folder(), demo()
        drawn, off_the_map = folder / "drawn.csv", folder / "off.csv"
        drawn.write_text("x,y\n30,18.5\n41,18.5\n", encoding="utf-8")
        off_the_map.write_text("x,y\n0,0\n900,0\n", encoding="utf-8")
        tune = ("tune", made / "cellar.png", "--robot", made / "robot.toml", "--json")
        status, printed, _ = run(*tune, "--shown", drawn, "-o", folder / "s.toml", "--picture", folder / "p.png")
        (way,) = json.loads(printed)["quality"]["ways"]
        self.assertEqual(status, int(way["after_m"] > way["before_m"] - 1e-3))
        self.assertAlmostEqual(way["length_m"], 11.0, delta=0.01)
        self.assertTrue((folder / "p.png").is_file())
        # A round with nowhere a stop goes to many places: it is localized, and then refused.
        for path, word in ((made / "second-run", "stand for 2 s"), (off_the_map, "off the map"), (folder / "no", "no")):
            with self.subTest(path=path.name):
                status, _, error = run(*tune, "--shown", path)
                self.assertEqual(status, 2)
                self.assertIn(word, error)
                self.assertEqual(error.count("\n"), 1)


if __name__ == "__main__":
    unittest.main()
