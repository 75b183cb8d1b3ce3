import unittest
from dataclasses import replace
from unittest import mock

import numpy as np
from shapely import Polygon, contains_xy

from tests.support import altered_robot, robot, room
from vinecompass import Command, Grid, LiveCosts, demo_file, plan_path, price_floor, read_robot
from vinecompass.costs import BodyCheck, body_touches
from vinecompass.following import Course
from vinecompass.geometry import distance_along, inverse, relative, transform_points
from vinecompass.grids import Beams
from vinecompass.navigation import LoopPlanner
from vinecompass.navigation.loop_planning import turn_fits
from vinecompass.navigation.mission.progress import ProgressWatch, StandingWatch
from vinecompass.navigation.plan_keeper import Look, PlanKeeper
from vinecompass.navigation.sensing.seen_floor import SeenFloor
from vinecompass.settings import NavigationSettings

PLANNER = LoopPlanner(margin=0.04)


def aisle():
    """A room with an aisle of 0.95 m between two racks: the body, 0.62 m wide and 1.2 m across, cannot turn in it."""
    grid = room(8.0, 8.0)
    grid.log_odds[60:140, 40:70] = 3.0
    grid.log_odds[60:140, 89:119] = 3.0
    return price_floor(grid, robot())


class LoopPlans(unittest.TestCase):
    def test_where_straight_lines_do_not_lead_round_a_bend_arcs_do(self):
        long = altered_robot(robot(), body={"outline": [[-0.3, -0.3], [1.2, -0.3], [1.2, 0.3], [-0.3, 0.3]]})
        log_odds = np.full((120, 120), 3.0, np.float32)
        log_odds[20:45, 5:100] = log_odds[20:110, 75:100] = -3.0
        costmap = price_floor(Grid(log_odds, 0.05), long)
        start, goal = np.array([0.8, 1.6, 0.0]), np.array([4.4, 4.2, np.pi / 2])
        self.assertEqual(plan_path(costmap, long, start, goal, method="a-star").status, "gave up")
        plan = LoopPlanner(margin=0.0).plan(costmap, long, start, goal, explain=True)
        self.assertEqual((plan.status, plan.method), ("found", "lattice"))

    def test_it_leads_straight_in_at_a_stop_beside_the_middle_of_an_aisle(self):
        grid = room(8.0, 8.0)
        grid.log_odds[40:140, 30:60] = grid.log_odds[40:140, 96:126] = 3.0
        stop = np.array([3.8, 6.0, np.pi / 2])
        plan = PLANNER.plan(price_floor(grid, robot()), robot(), np.array([3.9, 1.0, 1.5]), stop, explain=False)
        last = plan.poses[distance_along(plan.poses) > plan.length - 0.9, :2]
        bearings = np.arctan2(*np.diff(last, axis=0).T[::-1])
        self.assertLess(np.ptp(bearings), np.radians(1.0))
        self.assertLess(abs(bearings[0] - np.pi / 2), np.radians(12.0))
        np.testing.assert_allclose(plan.poses[-1], stop)
        self.assertAlmostEqual(plan.length, distance_along(plan.poses)[-1])

    def test_where_the_body_cannot_turn_it_backs_in_and_where_it_can_it_goes_ahead(self):
        floor = aisle()
        start, stop = np.array([4.0, 1.2, 0.0]), np.array([3.975, 4.5, -np.pi / 2])
        plan = PLANNER.plan(floor, robot(), start, stop, explain=True)
        self.assertTrue(plan.found, plan.reason)
        self.assertIn("lattice", plan.method)
        np.testing.assert_allclose(plan.poses[-1, :2], stop[:2], atol=0.06)
        self.assertFalse(np.any(body_touches(floor, robot(), plan.poses)[:, 0] >= 0))
        course = Course(plan.poses)
        directions = [course.direction]
        while not course.last_leg:
            course.next_leg()
            directions.append(course.direction)
        self.assertEqual(directions, [-1], "straight back to the stop, and not past it and ahead again")
        ahead = PLANNER.plan(floor, robot(), start, stop * (1, 1, -1), explain=True)
        self.assertEqual((ahead.found, ahead.method), (True, "a-star"))

    def test_it_drives_up_to_a_stop_that_is_taken_but_not_to_one_that_the_map_closes(self):
        grid, start, stop = room(9.0, 6.0), np.array([2.0, 3.0, 0.0]), np.array([5.0, 3.0, 2.0])
        live = LiveCosts(grid, robot())
        ends = np.array([[2.9, 0.2 * i - 0.4] for i in range(5)], np.float32)
        live.see(0.0, start, Beams(np.zeros_like(ends), ends, np.ones(5, bool)))
        plan = PLANNER.plan(live.costmap, robot(), start, stop, explain=True)
        self.assertTrue(plan.found)
        self.assertIn("taken", plan.reason)
        self.assertTrue(0.2 < np.hypot(*(plan.poses[-1] - stop)[:2]) < 1.5)
        self.assertLess(plan.poses[-1, 0], 4.5, "on this side of it")
        self.assertAlmostEqual(plan.poses[-1, 2], np.arctan2(*(stop - plan.poses[-1])[1::-1]), places=6)
        there = PLANNER.plan(live.costmap, robot(), plan.poses[-1], stop, explain=True)
        self.assertEqual(there.status, "goal closed")
        grid.log_odds[50:70, 94:100] = 3.0
        mapped = price_floor(grid, robot())
        self.assertFalse(PLANNER.plan(mapped, robot(), start, stop, explain=True).found)

    def test_a_doorway_that_something_seen_narrows_may_open_again_and_one_of_the_map_does_not(self):
        start, stop = np.array([2.0, 3.0, 0.0]), np.array([7.0, 3.0, 0.0])
        for half, stands in ((0.6, True), (0.3, False)):
            grid = room(9.0, 6.0)
            across = np.abs(grid.points_of(np.argwhere(np.ones(grid.shape, bool)))[:, 1] - 3.0).reshape(grid.shape)
            grid.log_odds[:, 90:92] = np.where(across[:, 90:92] > half, 3.0, grid.log_odds[:, 90:92])
            live = LiveCosts(grid, robot())
            ends = np.array([[2.52, 0.1 * i - 0.1] for i in range(3)], np.float32)
            live.see(0.0, start, Beams(np.zeros_like(ends), ends, np.full(3, stands)))
            now = mock.Mock(t=0.0, pose=start, command=Command(), floor=live.costmap, people=(), people_near=False)
            now.hidden = lambda: np.zeros((0, 2))
            keeper = PlanKeeper(PLANNER, robot(), NavigationSettings(), beside=False)
            with self.subTest(half=half):
                self.assertIs(keeper.look(now, stop, np.zeros((0, 3)), aligning=False), Look.NO_WAY)
                self.assertIn("too narrow", keeper.plan.reason)
                self.assertEqual(keeper.may_pass(now, stop, live.obstacles.points), stands)

    def test_what_had_no_way_on_the_move_and_has_one_now_has_passed(self):
        class InPassing:
            """Finds no way while the robot moves, as there is no time to look why."""

            def plan(self, costmap, body, start, goal, *, explain):
                plan = PLANNER.plan(costmap, body, start, goal, explain=False)
                return plan if explain else replace(plan, status="no way", reason="no way", poses=plan.poses[:0])

        start, stop = np.array([2.0, 3.0, 0.0]), np.array([7.0, 3.0, 0.0])
        floor = price_floor(room(9.0, 6.0), robot())
        now = mock.Mock(t=0.0, pose=start, command=Command(0.5), floor=floor, people=(), people_near=False)
        now.hidden = lambda: np.zeros((0, 2))
        keeper = PlanKeeper(InPassing(), robot(), NavigationSettings(), beside=False)
        self.assertIs(keeper.look(now, stop, np.zeros((0, 3)), aligning=False), Look.NO_WAY)
        self.assertTrue(keeper.may_pass(now, stop, np.zeros((0, 2))))

    def test_a_turn_fits_as_the_body_does(self):
        check = BodyCheck(aisle(), robot())
        self.assertFalse(turn_fits(check, np.array([3.975, 4.5, np.pi / 2]), -np.pi / 2))
        self.assertTrue(turn_fits(check, np.array([4.0, 1.2, 0.0]), np.pi))
        self.assertTrue(turn_fits(check, np.array([3.975, 4.5, np.pi / 2]), np.pi / 2 + 0.1))


class Backing(unittest.TestCase):
    def test_a_plan_goes_ahead_first_where_it_would_back_over_floor_that_nobody_has_seen(self):
        car = read_robot(demo_file("forklift.toml"))
        floor, start, goal = price_floor(room(14.0, 8.0), car), np.array([8.0, 4.0, 0.0]), np.array([3.0, 4.0, 0.0])
        behind = np.stack(np.meshgrid(np.arange(4.5, 7.5, 0.05), np.arange(2.5, 5.5, 0.05)), axis=-1).reshape(-1, 2)
        unseen = behind[np.hypot(*(behind - start[:2]).T) > 1.3]
        for name, hidden, backs_over_it in (
            ("all was seen", unseen[:0], True),
            ("behind it nothing was", unseen, False),
        ):
            with self.subTest(name=name):
                now = mock.Mock(t=0.0, pose=start, command=Command(), floor=floor, people=(), people_near=False)
                now.hidden = lambda hidden=hidden: hidden
                keeper = PlanKeeper(PLANNER, car, NavigationSettings(), beside=False)
                self.assertIs(keeper.look(now, goal, np.zeros((0, 3)), aligning=False), Look.TAKEN_UP)
                poses = keeper.plan.poses
                steps = relative(poses[1:], poses[:-1])
                bodies = [Polygon(transform_points(pose, car.body.polygon)) for pose in poses[1:][steps[:, 0] < 0.0]]
                self.assertEqual(any(contains_xy(body, *unseen.T).any() for body in bodies), backs_over_it)
                self.assertLess(np.hypot(*(keeper.plan.poses[-1] - goal)[:2]), 0.05)
        # What was closed for that plan is closed in the copy alone.
        closed = floor.closed_at([[4.0, 4.0], [99.0, 99.0]])
        self.assertEqual((closed.forbidden.sum(), floor.forbidden[80, 80]), (floor.forbidden.sum() + 1, False))
        self.assertEqual(closed.clearance[80, 90], np.float32(0.5))

    def test_floor_that_was_not_seen_is_hidden(self):
        seen, pose = SeenFloor(robot()), np.array([3.0, -2.0, 0.5])
        angles = np.linspace(-1.5, 1.5, 400)
        ends = np.column_stack([2.5 * np.cos(angles), 2.5 * np.sin(angles)])
        seen.see(1.0, pose, Beams(np.zeros((400, 2), np.float32), ends.astype(np.float32), np.ones(400, bool)))
        hidden = transform_points(inverse(pose), seen.hidden(2.0, pose, 2.0))
        away, bearing = np.hypot(*hidden.T), np.abs(np.arctan2(*hidden.T[::-1]))
        self.assertFalse(np.any((bearing < 1.4) & (away > 0.3) & (away < 2.0)))
        # Behind it lies as much as the part of the disc that is left.
        behind = (bearing > 1.6) & (away < 2.0)
        self.assertAlmostEqual(np.count_nonzero(behind) * 0.05**2, (np.pi - 1.6) * 4.0, delta=0.25)
        self.assertEqual(len(seen.hidden(100.0, pose, 2.0)), 4 * 41**2)


class Progress(unittest.TestCase):
    def test_a_robot_that_stands_on_its_way_is_told_of_once_at_each_place(self):
        watch, told = StandingWatch(1.0), []
        for t in np.arange(0.0, 12.0, 0.1):
            # It goes on for two seconds after it has stood for four.
            x, standing = (0.0, True) if t < 4.0 else (0.1 * (t - 4.0), False) if t < 6.0 else (0.2, True)
            if watch.stands_too_long(float(t), np.array([x, 0.0, 0.0]), standing):
                told.append(round(float(t), 1))
        self.assertEqual(told, [1.0, 7.0])

    def test_driving_and_a_turn_are_progress_standing_and_spinning_are_none(self):
        plan = np.column_stack([np.arange(0.0, 8.0, 0.1), np.zeros(80), np.zeros(80)])
        for name, pose_at, lasts in (
            ("driving", lambda t: (0.3 * t, 0.0, 0.0), True),
            ("standing", lambda t: (0.0, 0.0, 0.0), False),
            ("a turn", lambda t: (0.0, 0.0, min(0.5 * t, 3.0)), True),
            ("spinning", lambda t: (0.0, 0.0, np.sin(3.0 * t)), False),
            ("dithering", lambda t: (0.04 * np.sin(2.0 * t), 0.0, 0.0), False),
        ):
            with self.subTest(name=name):
                watch = ProgressWatch(6.0, 0.1)
                ends = 9.0 if name == "a turn" else 40.0
                for t in np.arange(0.0, ends, 0.1):
                    pose = np.array(pose_at(t))
                    going = watch.goes_on(float(t), pose, plan[int(max(pose[0], 0.0) / 0.1) :])
                    if not going or pose[0] > 7.0:
                        break
                self.assertEqual(going, lasts)

    def test_planning_anew_neither_counts_as_progress_nor_loses_what_was_made(self):
        watch, pose = ProgressWatch(6.0, 0.1), np.zeros(3)
        plan = np.column_stack([np.arange(0.0, 8.0, 0.1), np.zeros(80), np.zeros(80)])
        going = True
        for i, t in enumerate(np.arange(0.0, 10.0, 0.1)):
            if i % 20 == 0:
                watch.replanned()
            going = going and watch.goes_on(float(t), pose, plan)
        self.assertFalse(going)
        watch.recovered(pose)
        self.assertFalse(watch.moved_since_recovery)
        watch.restart(10.0)
        self.assertTrue(watch.goes_on(10.1, np.array([1.5, 0.0, 0.0]), plan[15:]))
        self.assertTrue(watch.moved_since_recovery)


if __name__ == "__main__":
    unittest.main()
