import unittest

import numpy as np
from benchmarks.closed_ways import closed_ways, told_wrongly, two_halls

from tests.support import altered_robot, robot
from vinecompass import Zone, plan_path, price_floor
from vinecompass.costs import LiveObstacles, body_touches
from vinecompass.grids import Beams

START, GOAL = np.array([1.5, 2.5, 0.0]), np.array([6.8, 2.5, 0.0])


class BuiltCases(unittest.TestCase):
    def test_the_fewest_causes_are_named_alone_and_together_and_the_pose_offered_can_be_got_to(self):
        for case in closed_ways(robot(), 20):
            with self.subTest(case=case.name):
                told, _ = told_wrongly(case)
                self.assertEqual(told, "")

    def test_what_is_blamed_opens_the_way_when_it_is_changed(self):
        wide = two_halls(1.2, 2.5)
        band = [(4.4, 0.0), (4.9, 0.0), (4.9, 5.0), (4.4, 5.0)]
        wet, gate = (
            Zone(name="wet", kind="closed", polygon=band),
            Zone(name="gate", kind="one-way", heading_deg=180.0, polygon=band),
        )
        pallet = np.column_stack([np.full(40, 4.3), 2.5 + np.linspace(-0.6, 0.6, 40)])
        for options, cause, changed in (
            ({"zones": [wet]}, "zone", {}),
            ({"zones": [gate]}, "one-way zone", {}),
            ({"obstacles": pallet}, "obstacle", {}),
        ):
            with self.subTest(cause=cause):
                plan = plan_path(price_floor(wide, robot(), **options), robot(), START, GOAL)
                self.assertEqual((plan.status, plan.why_not.cause), ("no way", cause))
                self.assertIn("planned again", plan.reason)
                self.assertTrue(plan_path(price_floor(wide, robot(), **changed), robot(), START, GOAL).found)

    def test_the_narrow_door_tells_by_how_much_and_what_would_fit(self):
        for short in (0.02, 0.06, 0.12):
            needed = 2.0 * robot().body.inner_radius
            plan = plan_path(price_floor(two_halls(needed - short, 2.5), robot()), robot(), START, GOAL)
            why = plan.why_not
            with self.subTest(short=short):
                self.assertEqual(why.cause, "narrow")
                self.assertAlmostEqual(why.width, needed - short, delta=0.021)
                self.assertIn(f"{100.0 * short:.0f} cm too narrow", why.text)
                self.assertLess(np.hypot(why.place[0] - 4.05, why.place[1] - 2.5), 0.2)

    def test_a_wide_body_whose_origin_would_pass(self):
        outline = [[-0.36, -0.6], [0.56, -0.6], [0.56, 0.6], [-0.36, 0.6]]
        wide = altered_robot(robot(), body={"outline": outline})
        plan = plan_path(price_floor(two_halls(1.0, 2.5), wide), wide, START, GOAL)
        self.assertEqual((plan.status, plan.why_not.cause), ("no way", "narrow"))
        self.assertIn("20 cm too narrow", plan.reason)
        self.assertLess(np.hypot(plan.why_not.place[0] - 4.05, plan.why_not.place[1] - 2.5), 0.2)
        self.assertTrue(plan_path(price_floor(two_halls(1.4, 2.5), wide), wide, START, GOAL).found)

    def test_two_things_together_and_walls_all_round(self):
        zones = [
            Zone(name=name, kind="closed", polygon=[(x, 0.0), (x + 0.3, 0.0), (x + 0.3, 5.0), (x, 5.0)])
            for name, x in (("first", 4.4), ("second", 5.2))
        ]
        plan = plan_path(price_floor(two_halls(1.2, 2.5), robot(), zones=zones), robot(), START, GOAL)
        self.assertEqual(plan.why_not.cause, "zone")
        self.assertIn("the closed zone 'second' and the closed zone 'first' lie across", plan.reason)
        pallet = np.column_stack([np.full(40, 6.0), np.linspace(0.0, 5.0, 40)])
        costmap = price_floor(two_halls(1.2, 2.5), robot(), zones=zones[:1], obstacles=pallet)
        plan = plan_path(costmap, robot(), START, GOAL)
        self.assertEqual(plan.why_not.cause, "several")
        self.assertIn("zone 'first' lie across every way from start to goal, one after the other", plan.reason)
        plan = plan_path(price_floor(two_halls(0.0, 2.5), robot(), zones=zones[:1]), robot(), START, GOAL)
        self.assertEqual(plan.why_not.cause, "walls")
        self.assertNotIn("first", plan.reason, "taking the zone away would not help")

    def test_an_obstacle_is_blamed_on_the_scan_that_saw_it(self):
        grid = two_halls(1.2, 2.5)
        seen = LiveObstacles(grid, apart=0.1, memory=2.0, reach=8.0)
        ends = np.column_stack([np.full(60, 4.4), 2.5 + np.linspace(-0.7, 0.7, 60)]) - START[:2]
        beams = Beams(np.zeros((60, 2), np.float32), ends.astype(np.float32), np.ones(60, bool))
        seen.see(12.0, START, beams, "front")
        plan = plan_path(price_floor(grid, robot(), obstacles=seen), robot(), START, GOAL)
        self.assertEqual(plan.why_not.cause, "obstacle")
        self.assertIn("seen by 'front', forgotten in 2.0 s unless seen again", plan.reason)

    def test_the_nearest_pose_to_a_closed_start_is_open_and_none_is_nearer(self):
        costmap = price_floor(two_halls(1.2, 2.5), robot())
        start = np.array([4.05, 1.0, 0.3])
        plan = plan_path(costmap, robot(), start, GOAL)
        nearest = plan.why_not.nearest
        self.assertEqual(plan.status, "start closed")
        self.assertEqual(body_touches(costmap, robot(), nearest)[0, 0], -1)
        away = np.hypot(*(nearest[:2] - start[:2]))
        centres = costmap.grid.points_of(np.argwhere(np.isfinite(costmap.prices)))
        nearer = centres[np.hypot(*(centres - start[:2]).T) < away - 1e-6]
        poses = np.column_stack([nearer, np.full(len(nearer), start[2])])
        self.assertTrue(np.all(body_touches(costmap, robot(), poses)[:, 0] >= 0))


if __name__ == "__main__":
    unittest.main()
