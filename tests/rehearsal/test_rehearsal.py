import unittest

import numpy as np

from tests.support import assert_input_error, robot, short_mapping, site
from vinecompass import Zone, record_drive, rehearse
from vinecompass.simulation import Site

GRID = short_mapping().grid
GOAL = np.array([36.4, 21.8, 0.6])


class Missions(unittest.TestCase):
    def test_it_arrives_by_the_truth_without_contact_and_within_the_limits(self):
        drive = robot().drive
        for seed in (1, 2):
            with self.subTest(seed=seed):
                mission = rehearse(
                    site(), robot(), GRID, GOAL, initial_pose=site().start_pose + [0.3, 0.2, 0.2], seed=seed
                )
                self.assertEqual((mission.arrived, mission.reason, mission.contacts), (True, "", 0))
                self.assertLess(mission.position_error, 0.10)
                self.assertLess(np.degrees(mission.heading_error), 5.0)
                speeding, braking, turning = mission.largest_accelerations()
                self.assertLessEqual(speeding, drive.acceleration + 1e-6)
                self.assertLessEqual(braking, drive.braking + 1e-6)
                self.assertLessEqual(turning, drive.turn_acceleration + 1e-6)
                self.assertLessEqual(np.abs(mission.velocities[:, 0]).max(), drive.top_speed)
                self.assertLess(np.abs(mission.run.truth.poses[-1] - GOAL)[:2].max(), 0.10)

    def test_the_same_seed_gives_the_same_mission(self):
        one, other = (rehearse(site(), robot(), GRID, GOAL, seed=3, time_limit=6.0) for _ in range(2))
        self.assertEqual(one.track.poses.tobytes(), other.track.poses.tobytes())
        self.assertEqual(one.run.scans.ranges.tobytes(), other.run.scans.ranges.tobytes())

    def test_where_no_way_leads_it_stands_and_says_why(self):
        x, y = GOAL[:2]
        fence = [
            Zone(name="fence", kind="closed", polygon=[(x + a, y + b), (x + c, y + b), (x + c, y + d), (x + a, y + d)])
            for a, b, c, d in (
                (-1.5, -1.5, 1.5, -1.2),
                (-1.5, 1.2, 1.5, 1.5),
                (-1.5, -1.5, -1.2, 1.5),
                (1.2, -1.5, 1.5, 1.5),
            )
        ]
        mission = rehearse(site(), robot(), GRID, GOAL, zones=fence, seed=1, time_limit=4.0)
        self.assertFalse(mission.arrived)
        self.assertIn("closed zone", mission.reason)
        self.assertLess(mission.run.truth.length, 0.05)

    def test_a_crate_left_in_the_way_is_driven_round(self):
        document = site().model_dump()
        document["solid"].append({"name": "crate", "polygon": [(36.1, 23.0), (36.9, 23.0), (36.9, 23.3), (36.1, 23.3)]})
        document["person"] = []
        changed = Site.model_validate(document)
        mission = rehearse(changed, robot(), GRID, np.array([36.6, 21.6, -1.57]), seed=4)
        self.assertTrue(mission.arrived, mission.reason)
        self.assertEqual(mission.contacts, 0)
        self.assertLess(mission.position_error, 0.10)


class Recording(unittest.TestCase):
    def test_a_route_through_a_wall_ends_with_the_place(self):
        assert_input_error(
            self, lambda: record_drive(site(), robot(), [(36.0, 29.9), (36.0, 40.0)], seed=1, cruise_speed=1.1),
            "route", "held up at",
        )  # fmt: skip


if __name__ == "__main__":
    unittest.main()
