import json
import unittest
from dataclasses import replace

import numpy as np
import shapely

from tests.support import assert_input_error, new_folder, robot, run
from vinecompass import PlanCase, Settings, Trial, demo_file, plan_path, price_floor, write_map
from vinecompass.geometry import transform_points
from vinecompass.grids import grid_from_polygons

CORNERS = [(0.0, 0.0), (12.0, 0.0), (12.0, 8.0), (0.0, 8.0)]
WALL = [(7.0, 0.0), (7.4, 0.0), (7.4, 8.0), (7.0, 8.0)]
"""It shuts one room off from the other."""
POST = [(3.0, 3.0), (4.0, 3.0), (4.0, 5.0), (3.0, 5.0)]


def two_rooms():
    return grid_from_polygons(CORNERS, [WALL, POST], 0.05)


class Plans(unittest.TestCase):
    def test_ends_are_drawn_on_floor_that_hangs_together_with_room_for_the_body(self):
        case = PlanCase(two_rooms(), robot(), Settings())
        floor = shapely.Polygon(CORNERS).difference(shapely.union_all([shapely.Polygon(WALL), shapely.Polygon(POST)]))
        for seed in range(40):
            start, goal = case.ends(seed)
            self.assertGreaterEqual(np.hypot(*(goal - start)[:2]), 2.0)
            self.assertEqual(start[0] < 7.0, goal[0] < 7.0)
            for pose in (start, goal):
                self.assertTrue(floor.contains(shapely.Polygon(transform_points(pose, robot().body.polygon))))

    def test_ends_are_drawn_from_all_of_the_floor_alike_and_found_on_a_narrow_ring(self):
        case = PlanCase(two_rooms(), robot(), Settings())
        ends = np.array([case.ends(seed) for seed in range(400)]).reshape(-1, 3)
        # As far as the body fits, halves of the room without a post are as large as each other.
        right = ends[ends[:, 0] > 7.4]
        for there in (right[:, 0] < 9.7, right[:, 1] < 4.0, right[:, 2] < 0.0):
            self.assertLess(abs(np.count_nonzero(there) - len(right) / 2.0), 3.0 * np.sqrt(len(right) / 4.0))
        self.assertTrue(0.25 < len(right) / len(ends) < 0.45)
        # Of a corridor 1.5 m wide round a block of 40 m by 30 m, hardly a sixth of the map is floor.
        ring = grid_from_polygons(
            [(0.0, 0.0), (43.0, 0.0), (43.0, 33.0), (0.0, 33.0)],
            [[(1.5, 1.5), (41.5, 1.5), (41.5, 31.5), (1.5, 31.5)]],
            0.1,
        )
        case = PlanCase(ring, robot(), Settings())
        for seed in range(8):
            with self.subTest(seed=seed):
                for x, y, _ in case.ends(seed):
                    self.assertTrue(min(x, y, 43.0 - x, 33.0 - y) < 1.5)
                self.assertLess(case.run(Trial(0, seed, {}), 1.0).cost, 10.0)

    def test_a_plan_is_judged_by_what_it_costs_for_each_metre_and_is_the_same_again(self):
        case = PlanCase(two_rooms(), robot(), Settings())
        costmap = price_floor(two_rooms(), robot())
        for seed in range(8):
            start, goal = case.ends(seed)
            trial = Trial(0, seed, {"planning.smoothing_rounds": 10})
            judged, again = case.run(trial, 1.0), case.run(trial, 1.0)
            self.assertEqual(replace(judged, computing=0.0), replace(again, computing=0.0))
            settings = Settings().planning.model_copy(update={"smoothing_rounds": 10})
            plan = plan_path(costmap, robot(), start, goal, settings=settings, seed=seed)
            straight = np.hypot(*(goal - start)[:2])
            self.assertAlmostEqual(judged.cost, plan.cost / straight)
            self.assertAlmostEqual(judged.way, plan.length / straight)
            self.assertEqual(judged.clearance, plan.least_clearance)
            # Straight lines cost their length, to rounding.
            self.assertTrue(1.0 - 1e-12 <= judged.way <= judged.cost + 1e-12 < 10.0)
        # A tree that may draw one sample finds nothing.
        one = Settings.model_validate({"planning": {"method": "rrt", "iterations": 1}})
        self.assertEqual(replace(case, settings=one).run(Trial(0, 0, {}), 1.0).cost, 10.0)

    def test_a_map_without_room_is_refused(self):
        narrow = grid_from_polygons([(0.0, 0.0), (12.0, 0.0), (12.0, 0.5), (0.0, 0.5)], [], 0.05)
        assert_input_error(self, lambda: PlanCase(narrow, robot(), Settings()).bound(), "map", "two places")


class OnTheCommandLine(unittest.TestCase):
    def test_planners_and_their_settings_are_tried_on_a_map(self):
        folder = new_folder()
        write_map(two_rooms(), folder / "map.png")
        call = ("tune", folder / "map.png", "--robot", demo_file("robot.toml"), "--workers", 1)
        vary = ("--vary", "planning.spacing", "--trials", 8, "--seeds", 4)
        status, printed, error = run(*call, *vary, "-o", folder / "spacing", "--json")
        self.assertIn(status, (0, 1), error)
        self.assertEqual(json.loads(printed)["quality"]["sets_of_values"], 2)
        tree = folder / "tree.toml"
        tree.write_text('format = "vinecompass settings"\nversion = 1\n\n[planning]\nmethod = "rrt-connect"\n')
        status, told, error = run(*call, "--against", tree, "--trials", 12, "-o", folder / "tree")
        self.assertEqual(status, 1, error)
        self.assertIn("what differs: planning.method = rrt-connect", told)
        # Lines are planned for a robot that turns on the spot; the lattice has nothing to do.
        haste = ("--vary", "planning.lattice_haste", "--trials", 8, "--seeds", 2)
        status, told, error = run(*call, *haste, "-o", folder / "haste")
        self.assertEqual((status, error), (1, ""))
        self.assertIn("nothing that was tried changes anything", told)
        for options, word in (
            (("--vary", "planning.spacings"), "perhaps `planning.spacing`"),
            (("--vary", "costs.comfort"), "no effect on a plan"),
            (("--vary", "planning.spacing", "--to", "1,1,0"), "--to"),
        ):
            with self.subTest(word):
                status, _, error = run(*call, *options, "-o", folder / "x")
                self.assertEqual((status, error.count("\n"), word in error), (2, 1, True))


if __name__ == "__main__":
    unittest.main()
