import unittest
from functools import partial

import numpy as np

from tests.support import assert_input_error, robot, short_mapping, site
from vinecompass import InputError, Round, Settings, Zone, demo_file, read_robot, record_drive, rehearse_mission
from vinecompass.grids import grid_from_polygons
from vinecompass.links import LiveFault
from vinecompass.simulation import Site

GRID = short_mapping().grid
GOAL = np.array([36.4, 21.8, 0.6])


class Missions(unittest.TestCase):
    def test_it_arrives_by_the_truth_without_contact_and_within_the_limits(self):
        drive = robot().drive
        for seed in (1, 2):
            with self.subTest(seed=seed):
                mission = rehearse_mission(
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
        one, other = (rehearse_mission(site(), robot(), GRID, GOAL, seed=3, time_limit=6.0) for _ in range(2))
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
        mission = rehearse_mission(site(), robot(), GRID, GOAL, zones=fence, seed=1, time_limit=4.0)
        self.assertFalse(mission.arrived)
        self.assertIn("closed zone", mission.reason)
        self.assertLess(mission.run.truth.length, 0.05)

    def test_a_crate_left_in_the_way_is_driven_round(self):
        document = site().model_dump()
        document["solids"].append(
            {"name": "crate", "polygon": [(36.1, 23.0), (36.9, 23.0), (36.9, 23.3), (36.1, 23.3)]}
        )
        document["people"] = []
        changed = Site.model_validate(document)
        mission = rehearse_mission(changed, robot(), GRID, np.array([36.6, 21.6, -1.57]), seed=4)
        self.assertTrue(mission.arrived, mission.reason)
        self.assertEqual(mission.contacts, 0)
        self.assertLess(mission.position_error, 0.10)


class RoundsAndFaults(unittest.TestCase):
    def test_a_round_is_driven_in_its_order_and_a_stop_off_the_map_is_skipped_with_the_reason(self):
        the_round = Round.model_validate(
            {
                "stop": [
                    {"name": "south", "pose": (36.4, 22.0, -90.0), "dwell": 1.0},
                    {"name": "walled in", "pose": (33.5, 29.5, 0.0)},
                    {"name": "dock", "position_tolerance": 0.05},
                ]
            }
        )
        settings = Settings.model_validate({"navigation": {"recovery": ["forget obstacles"]}})
        mission = rehearse_mission(site(), robot(), GRID, the_round, settings=settings, seed=2)
        self.assertEqual([each.name for each in mission.arrivals], ["south", "walled in", "dock"])
        self.assertEqual([each.reached for each in mission.arrivals], [True, False, True])
        self.assertRegex(mission.arrivals[1].reason, "unknown floor|closed|touches")
        self.assertIn("walled in", mission.reason)
        self.assertFalse(mission.arrived)
        self.assertEqual((mission.contacts, mission.limits_kept()), (0, True))
        for each in mission.arrivals[::2]:
            self.assertLess(each.position_error, 0.06)
            self.assertLess(np.degrees(each.heading_error), 2.0)
        dwelt = [entry for entry in mission.log.states if entry.state == "dwelling"]
        self.assertGreaterEqual(mission.arrivals[0].t - dwelt[0].t, 0.99)
        with self.assertRaisesRegex(InputError, "atlantis"):
            rehearse_mission(site(), robot(), GRID, Round.model_validate({"stop": [{"name": "atlantis"}]}), seed=1)

    def test_one_fault_each_never_a_contact_and_it_arrives_or_says_why(self):
        for kind, duration, arrives, words in (
            ("scanner dead", 1.0, True, ""),
            ("scanner dead", np.inf, False, "the scan is"),
            ("half blind", np.inf, False, "of 433 beams"),
            ("odometry frozen", np.inf, False, "odometry stands still"),
            ("clock jump", np.inf, True, ""),
            ("late data", np.inf, False, "s old"),
            ("wheels slip", 4.0, True, ""),
        ):
            with self.subTest(kind=kind, duration=duration):
                fault = LiveFault(kind, 3.0, duration)
                mission = rehearse_mission(site(), robot(), GRID, GOAL, seed=5, fault=fault, time_limit=60.0)
                self.assertEqual((mission.contacts, mission.limits_kept()), (0, True))
                self.assertEqual(mission.arrived, arrives, mission.reason)
                self.assertIn(words, mission.reason)
        assert_input_error(self, lambda: LiveFault("gremlins", 1.0), "gremlins", "scanner dead")

    def test_carried_away_it_finds_itself_and_goes_on(self):
        fault = LiveFault("carried away", 4.0, place=(34.5, 18.4, 3.0))
        mission = rehearse_mission(site(), robot(), GRID, GOAL, seed=5, fault=fault, time_limit=120.0)
        self.assertEqual(mission.contacts, 0)
        self.assertIn("finding itself", [entry.state for entry in mission.log.states])
        self.assertTrue(mission.arrived or "know where it is" in mission.reason, mission.reason)


class People(unittest.TestCase):
    def test_who_crosses_is_waited_for_on_the_plan_that_stands(self):
        corners = [(0.0, 0.0), (14.0, 0.0), (14.0, 14.0), (0.0, 14.0)]
        grid = grid_from_polygons(corners, [], cell_size=0.05)
        free, met = (
            rehearse_mission(
                Site.model_validate(
                    {
                        "name": "hall",
                        "start": (1.5, 7.0, 0.0),
                        "wall": [{"points": [*corners, corners[0]]}],
                        "person": people,
                    }
                ),
                robot(),
                grid,
                [12.0, 7.0, 0.0],
                seed=2,
                time_limit=60.0,
            )
            for people in (
                [],
                [
                    {
                        "name": "worker",
                        "route": [(6.5, 12.3), (6.5, 0.5)],
                        "speed": 0.9,
                        "attention": 0.0,
                        "begin": 0.0,
                    }
                ],
            )
        )
        self.assertEqual((met.arrived, met.contacts, len(met.log.plans)), (True, 0, 1))
        self.assertEqual([entry.state for entry in met.log.encounters][:3], ["far", "crossing", "crossed"])
        self.assertGreater(met.gaps_to_people().min(), 1.0)
        self.assertLess(met.track.t[-1], 1.5 * free.track.t[-1])
        # It waits on its line.
        self.assertLess(np.abs(met.run.truth.poses[:, 1] - 7.0).max(), 0.6)


class Recording(unittest.TestCase):
    def test_a_route_through_a_wall_ends_with_the_place(self):
        assert_input_error(
            self,
            lambda: record_drive(site(), robot(), [(36.0, 29.9), (36.0, 40.0)], seed=1, cruise_speed=1.1),
            "route",
            "held up at",
        )

    def test_a_car_rounds_corners_and_who_or_what_holds_a_robot_up_is_named(self):
        corners = [(0.0, 0.0), (12.0, 0.0), (12.0, 6.0), (0.0, 6.0), (0.0, 0.0)]
        hall = {"name": "hall", "start": (2.0, 2.0, 0.0), "wall": [{"points": corners}]}
        forklift = read_robot(demo_file("forklift.toml"))
        run = record_drive(Site.model_validate(hall), forklift, [(7.0, 2.0), (7.0, 5.0), (5.0, 5.0)], seed=1)
        self.assertLess(np.hypot(*(run.truth.poses[-1, :2] - [5.0, 5.0])), 0.1)
        # The corner itself is cut by what an arc leaves beside it.
        arc = 1.2 * forklift.drive.turning_radius
        nearest = np.hypot(*(run.truth.poses[:, :2] - [7.0, 2.0]).T).min()
        self.assertAlmostEqual(nearest, (np.sqrt(2.0) - 1.0) * arc, delta=0.1)
        worker = {"name": "worker", "route": [(4.5, 2.0), (4.6, 2.0)], "speed": 0.01, "attention": 9.0}
        shelf = {"name": "shelf", "polygon": [(4.0, 3.2), (11.0, 3.2), (11.0, 3.5), (4.0, 3.5)]}
        for parts, route, words in (
            ({"person": [worker]}, [(9.0, 2.0)], "worker stays in its way"),
            ({"solid": [shelf]}, [(8.0, 2.0), (5.0, 2.1)], "about the corner 8, 2; expected room for curves of 1 m"),
        ):
            with self.subTest(words=words):
                busy = Site.model_validate(hall | parts)
                assert_input_error(self, partial(record_drive, busy, forklift, route, seed=1), "route", words)


if __name__ == "__main__":
    unittest.main()
