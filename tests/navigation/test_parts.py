"""The navigator with parts of one's own, and each recovery and failure rule at work."""

import unittest
from dataclasses import replace
from unittest import mock

import numpy as np

from tests.support import altered_robot, assert_input_error, robot, room, short_mapping, short_run, site
from vinecompass import (
    Command,
    Navigator,
    PathFollower,
    RecordedLink,
    Settings,
    SimulatedLink,
    Site,
    grid_from_polygons,
    price_floor,
    rehearse,
)
from vinecompass.costs import BodyCheck
from vinecompass.geometry import arc, compose, wrap_angle
from vinecompass.grids import Beams, MapRays
from vinecompass.navigation import LoopPlanner, Recovery, RoundStop, State, StopGoal
from vinecompass.navigation.loop_planning import free_start
from vinecompass.navigation.recovery.find_myself import freest_way
from vinecompass.navigation.sensing.base_watch import BaseWatch
from vinecompass.navigation.sensing.moving_things import MovingThings
from vinecompass.navigation.sensing.silent_beams import SilentBeams
from vinecompass.planning import METHODS, WhyNot

GRID = short_mapping().grid
NEAR, FAR = np.array([36.9, 24.2, -1.57]), np.array([36.9, 23.4, -1.57])


def stop(name, pose, **rules):
    return StopGoal(name, pose, RoundStop(name=name, position_tolerance=0.1, heading_tolerance_deg=10.0, **rules))


class Refusing:
    """A global planner that says "no way" to one stop, a number of times."""

    why_not = None

    def __init__(self, refused, times):
        self.refused, self.times, self.asked, self.costs = refused, times, 0, []
        self.usual = LoopPlanner(margin=0.04)

    def plan(self, costmap, body, start, goal, *, explain):
        plan = self.usual.plan(costmap, body, start, goal, explain=explain)
        self.costs.append(plan.cost)
        if not np.allclose(goal[:2], self.refused[:2]) or self.asked >= self.times:
            return plan
        self.asked += 1
        return replace(plan, status="no way", reason="refused", poses=plan.poses[:0], why_not=self.why_not)


def mission(goals, order, time_limit=40.0, **parts):
    settings = Settings.model_validate({"navigation": {"recovery": order}})
    link = SimulatedLink(site(), robot(), seed=1)
    navigator = Navigator(GRID, robot(), link.pose, goals, settings=settings, seed=1, **parts)
    seen = []
    rehearse(link, navigator, time_limit=time_limit, watch=lambda now: seen.append((now.state, now.reason)))
    return navigator, seen


class PartsOfOnesOwn(unittest.TestCase):
    def test_layer_planner_local_planner_and_recovery_are_called_and_heeded(self):
        class Nudge(Recovery):
            name, effect, seconds = "nudge", "nothing", 0.5

            def next_command(self, now):
                return Command(-0.05)

        class Counted(PathFollower):
            cycles = 0

            def drive_on(self, view, course, profile):
                self.cycles += 1
                return super().drive_on(view, course, profile)

        class Carpet:
            name = "carpet"

            def charge(self, grid, body):
                return np.full(grid.shape, 1.5, np.float32)

        charged = []
        for layers in ([], [Carpet()]):
            planner = Refusing(FAR, 0)
            mission(FAR, [], 1.0, planner=planner, layers=layers)
            charged.append(planner.costs[0])
        planner, local = Refusing(FAR, 1), Counted(robot())
        navigator, seen = mission(FAR, ["nudge"], planner=planner, local=local, recoveries={"nudge": Nudge})
        self.assertEqual((navigator.state, navigator.reason), (State.FINISHED, ""))
        self.assertIn((State.RECOVERING, "nudge, because refused"), seen)
        self.assertGreater(local.cycles, 5)
        self.assertEqual(planner.asked, 1)
        self.assertAlmostEqual(charged[-1] / charged[0], 1.5, delta=0.01)

    def test_a_callable_plans_for_the_loop_with_its_margin(self):
        widths = []

        def by_angles(problem, settings, rng):
            widths.append(2.0 * problem.robot.body.inner_radius)
            return METHODS["any-angle"](problem, settings, rng)

        navigator, _ = mission(FAR, [], 1.0, planner=by_angles)
        self.assertEqual((navigator.state, navigator.plan.method), (State.DRIVING, "by_angles"))
        margin = Settings().safety.margin
        self.assertAlmostEqual(widths[0], 2.0 * (robot().body.inner_radius + margin), delta=1e-9)

    def test_names_that_are_not_known_are_told_with_those_that_are(self):
        for table, key, name, words in (
            ("navigation", "recovery", ["sing"], ["navigation.recovery", "sing", "back out"]),
            ("planning", "method", "oracle", ["planning.method", "oracle", "usual"]),
            ("following", "planner", "oracle", ["following.planner", "oracle", "window"]),
        ):
            with self.subTest(table=table, key=key):
                settings = Settings.model_validate({table: {key: name}})
                assert_input_error(
                    self, lambda s=settings: Navigator(GRID, robot(), NEAR, FAR, settings=s, seed=1), *words
                )

    def test_a_recorded_run_is_localized_as_it_was_driven_whatever_is_commanded(self):
        run = short_run()
        link = RecordedLink(run)
        navigator = Navigator(GRID, robot(), run.truth.poses[0], FAR, seed=1)
        navigator.hold()
        off = []

        def compare(now):
            truth = run.truth.at(np.array([link.t]))[0]
            off.append(np.hypot(*(now.pose - truth)[:2]))

        played = rehearse(link, navigator, time_limit=15.0, watch=compare)
        self.assertLess(np.max(off), 0.2)
        self.assertLess(np.median(off), 0.06)
        self.assertGreater(len(played.track), 100)


class ABaseThatIsNotAsItsFileSays(unittest.TestCase):
    """A base on a straight way at 0.5 m/s, by what it is told, what its odometry says and what the scans show."""

    def found(self, *, pace=1.0, astray=0.0, scale=1.0, turned=0.0):
        watch, found, told = BaseWatch(), [], np.array([0.5, 0.0, 0.1])
        truth = odometry = np.zeros(3)
        for step in range(100):
            t = 0.1 * step
            made = pace * told + [0.0, 0.0, astray]
            truth, odometry = compose(truth, arc(made, 0.1)), compose(odometry, arc(made * [scale, 1.0, 1.0], 0.1))
            estimate = mock.Mock(settled=True, t=t, pose=truth + [0.0, 0.0, turned])
            texts = watch.drive(t, 0.1, told, made, delay_known=True) + watch.locate(estimate, odometry)
            found += [(t, text) for text in texts]
        return watch, found

    def test_a_turn_that_comes_late_is_not_told_of_until_the_delay_is_known(self):
        for known, wrong_spans, count in ((True, 1, 1), (False, 1, 0), (False, 2, 1)):
            watch, found, told = BaseWatch(), [], np.array([0.0, 0.0, 0.8])
            for step in range(40):
                made = told * (0.4 if step < 11 * wrong_spans else 1.0)
                found += watch.drive(0.1 * step, 0.1, told, made, delay_known=known)
            with self.subTest(known=known, wrong_spans=wrong_spans):
                self.assertEqual(len(found), count)

    def test_what_is_as_filed_is_not_told_of_and_what_is_not_is_told_once_within_five_seconds(self):
        for off, words in (
            ({}, None),
            ({"pace": 0.95, "scale": 1.02, "turned": 0.02, "astray": 0.05}, None),
            ({"pace": 0.7}, "goes 0.35 m/s where it is told 0.50"),
            ({"astray": -0.5}, "turns at -0.40 rad/s where it is told 0.10"),
            ({"scale": 1.25}, "0.80 m for each metre"),
            ({"turned": 0.14}, "points 8 degrees farther to the left"),
        ):
            with self.subTest(off=off):
                watch, found = self.found(**off)
                self.assertEqual(len(found), 0 if words is None else 1, found)
                for t, text in found:
                    self.assertIn(words, text)
                    self.assertLess(t, 5.5)
                self.assertEqual(bool(watch.astray(9.9)), "astray" in off and words is not None)
                self.assertEqual(bool(watch.disobeys), "astray" in off and words is not None)
                watch.put_right()
                self.assertEqual(watch.disobeys, "")


class SilentSectors(unittest.TestCase):
    def test_beams_that_miss_a_wall_squarely_are_silent_and_those_that_graze_it_are_not(self):
        # Along a wall 0.4 m to the left, the far end of the hall beyond the lidar's reach.
        grid, lidar = room(40.0, 6.0), robot().scanner
        along, across = np.array([5.0, 5.6, 0.0]), np.array([5.0, 3.0, np.pi / 2])
        for pose, blind in ((along, ()), (across, range(150, 280))):
            beams, rays = SilentBeams(lidar), MapRays(grid)
            # By the truth the robot looks two degrees farther to the right.
            seen = compose(compose(pose, [0.0, 0.0, -np.radians(2.0)]), lidar.mount_pose)
            ranges = rays.ranges(seen[None], lidar.beam_angles, farthest=lidar.farthest)[0].astype(np.float32)
            ranges[list(blind)] = np.inf
            for _ in range(20):
                beams.take(ranges, pose, rays)
            self.assertEqual(np.flatnonzero(beams.silent).tolist(), list(blind))


class MovingThingsSeen(unittest.TestCase):
    def told(self, walker, *, off=1.0, tracked=()):
        """What is told within the next 1.2 s, in the site, by a robot that drives ahead at 0.6 m/s for two seconds.

        The walker, a disc of 0.25 m in a hall of 20 m by 6 m, goes from (5, 0.5) with a velocity; the odometry tells
        `off` times the way.
        """
        bearings, watch = np.radians(np.arange(-120.0, 120.0)), MovingThings()
        ways = np.column_stack([np.cos(bearings), np.sin(bearings)])
        for t in np.arange(0.0, 2.05, 0.1):
            x = 0.6 * t
            with np.errstate(divide="ignore"):
                walls = [(np.where(ways[:, 0] > 0.0, 10.0, -10.0) - x) / ways[:, 0], 3.0 / np.abs(ways[:, 1])]
            ranges = np.minimum(*walls)
            if walker is not None:
                away = np.array([5.0 - x, 0.5]) + t * np.array(walker)
                along, across = ways @ away, np.abs(ways @ [-away[1], away[0]])
                within = (across < 0.25) & (along > 0.0)
                ranges[within] = (along - np.sqrt(np.maximum(0.0625 - across**2, 0.0)))[within]
            ends = (ranges[:, None] * ways).astype(np.float32)
            told = np.array([off * x, 0.0, 0.0])
            watch.take(t, told, Beams(np.zeros_like(ends), ends, np.ones(len(ends), bool)))
        return watch.ahead(t, told, np.reshape(tracked, (-1, 2)), within=1.2) + [x, 0.0]

    def test_where_one_comes_is_told_ahead_and_what_stands_is_not(self):
        for velocity in ((-0.8, 0.0), (-0.5, -0.3), (-0.3, 0.0)):
            points, t = self.told(velocity), np.array([0.0, 0.4, 0.8, 1.2])
            middles = np.array([5.0, 0.5]) + np.multiply.outer(2.0 + t, velocity)
            off = np.abs(np.hypot(*(points[:, None] - middles).transpose(2, 0, 1)) - 0.25)
            with self.subTest(velocity=velocity):
                # Each point lies on the walker's rim then, and there are some for each moment.
                self.assertLess(off.min(axis=1).max(), 0.15)
                self.assertLess(off.min(axis=0).max(), 0.1)
        for walker, off in ((None, 1.0), (None, 1.08), ((0.0, 0.0), 1.0), ((0.0, 0.0), 1.08)):
            with self.subTest(walker=walker, off=off):
                self.assertEqual(len(self.told(walker, off=off)), 0)
        # One who is tracked counts by what the tracker says: 3.4 - 1.2 m ahead of the robot.
        self.assertEqual(len(self.told((-0.8, 0.0), tracked=[[2.2, 0.5]])), 0)


class LocalizedFromOutside(unittest.TestCase):
    def test_poses_from_outside_stand_in_for_our_own_and_the_odometry_leads_while_they_are_silent(self):
        link = SimulatedLink(site(), robot(), seed=4)
        navigator = Navigator(GRID, robot(), link.pose + [3.0, 1.0, 0.5], FAR, seed=4)
        command, states = Command(), []
        for step in range(1200):
            readings = link.exchange(command)
            silent = 60 < step < 90
            command = navigator.step(
                readings.t, readings.scans["front"], readings.odometry, localized=None if silent else link.pose
            )
            states.append(navigator.estimate.state)
            if navigator.over:
                break
        self.assertEqual(navigator.state, State.FINISHED, navigator.reason)
        self.assertLess(np.hypot(*(link.pose - FAR)[:2]), 0.05)
        self.assertEqual(set(states), {"tracking", "doubtful"})
        self.assertEqual(states[85], "doubtful")

    def test_what_is_no_pose_is_a_stop_with_its_reason(self):
        link = SimulatedLink(site(), robot(), seed=4)
        for told, words in ((np.zeros(2), "shape (2,)"), ("here", "not numbers"), ([[0.0], [1.0, 2.0]], "not numbers")):
            with self.subTest(told=told):
                navigator, readings = Navigator(GRID, robot(), link.pose, FAR, seed=4), link.exchange(Command())
                command = navigator.step(readings.t, readings.scans["front"], readings.odometry, localized=told)
                self.assertEqual((command, navigator.state), (Command(), State.STALE))
                self.assertIn(words, navigator.reason)

    def test_off_the_map_it_looks_for_where_it_is(self):
        link, command = SimulatedLink(site(), robot(), seed=4), Command()
        navigator = Navigator(GRID, robot(), link.pose, FAR, seed=4)
        for _ in range(10):
            readings = link.exchange(command)
            told = [1e3, -1e3, 0.0]
            command = navigator.step(readings.t, readings.scans["front"], readings.odometry, localized=told)
        self.assertEqual(navigator.state, State.FINDING_ITSELF)
        self.assertIn("off the map, at 1000.0, -1000.0", navigator.reason)


class RecoveriesAndFailures(unittest.TestCase):
    def ends(self, navigator):
        return [(each.name, each.status) for each in navigator.log.stops]

    def test_another_stop_is_taken_first_and_the_refused_one_after_it(self):
        goals = [stop("far", FAR), stop("near", NEAR)]
        navigator, seen = mission(goals, ["take another stop"], planner=Refusing(FAR, 1))
        self.assertEqual(self.ends(navigator), [("near", "reached"), ("far", "reached")])
        self.assertTrue(any(reason.startswith("take another stop") for _, reason in seen))
        navigator, _ = mission(goals, ["take another stop"], planner=Refusing(FAR, 99))
        self.assertEqual(self.ends(navigator), [("near", "reached"), ("far", "failed")])
        self.assertIn("refused", navigator.reason)

    def test_what_may_pass_is_waited_for_as_long_as_the_stop_says(self):
        for patience, ends in ((30.0, "reached"), (5.0, "failed")):
            planner = Refusing(FAR, 5)
            planner.why_not = WhyNot("obstacle", "a crate stands there", place=(36.9, 23.4))
            navigator, seen = mission([stop("far", FAR, patience=patience)], [], planner=planner)
            with self.subTest(patience=patience):
                self.assertEqual(self.ends(navigator), [("far", ends)])
                self.assertIn((State.RECOVERING, "wait, because refused"), seen)

    def test_find_myself_from_the_order_starts_localization_over_and_goes_on(self):
        navigator, seen = mission(FAR, ["find myself"], planner=Refusing(FAR, 1))
        turned = [reason for state, reason in seen if state is State.RECOVERING]
        self.assertTrue(turned and turned[0].startswith("find myself"))
        self.assertGreater(len(turned), 10)
        self.assertEqual(navigator.state, State.FINISHED, navigator.reason)

    def test_in_a_hall_that_is_alike_turned_by_half_it_looks_for_what_tells_before_it_drives_to_a_stop(self):
        corners = [(0.0, 0.0), (30.0, 0.0), (30.0, 6.0), (0.0, 6.0)]
        solids = [[(3.0, 2.0), (4.0, 2.0), (4.0, 3.0), (3.0, 3.0)]]
        hall = Site.model_validate(
            {
                "name": "hall",
                "start": (13.0, 3.2, 60.0),
                "wall": [{"points": [*corners, corners[0]]}],
                "solid": [{"name": "crate", "polygon": solids[0]}],
            }
        )
        seeing = altered_robot(robot(), lidar={"farthest": 8.0})
        link = SimulatedLink(hall, seeing, seed=1)
        grid = grid_from_polygons(corners, solids, 0.05)
        navigator = Navigator(grid, seeing, None, [8.0, 3.0, 0.0], seed=1)
        told = rehearse(link, navigator, time_limit=150.0)
        self.assertTrue(told.arrived, told.reason)
        self.assertLess(told.position_error, 0.1)
        self.assertEqual(told.contacts, 0)
        self.assertTrue(any(entry.reason.startswith("find myself") for entry in told.log.states))

    def test_the_freest_way_is_where_the_body_gets_farthest(self):
        angles = np.linspace(-np.pi, np.pi, 720, endpoint=False)
        for gap in np.radians([-120.0, 0.0, 75.0]):
            ranges = np.where(np.abs(wrap_angle(angles - gap)) < 0.5, 3.0, 1.0)
            points = ranges[:, None] * np.column_stack([np.cos(angles), np.sin(angles)])
            direction, way = freest_way(points, robot())
            self.assertLess(abs(wrap_angle(direction - gap)), np.radians(8.0))
            self.assertAlmostEqual(way, 3.0 - robot().body.outer_radius, delta=0.2)

    def test_a_stop_that_fails_is_skipped_tried_again_or_ends_the_round_as_its_rules_say(self):
        for rules, times, ends, state in (
            ({}, 99, [("far", "failed"), ("near", "reached")], State.FAILED),
            ({"on_failure": "retry", "retries": 2}, 2, [("far", "reached"), ("near", "reached")], State.FINISHED),
            ({"on_failure": "retry", "retries": 1}, 99, [("far", "failed"), ("near", "reached")], State.FAILED),
            ({"on_failure": "stop"}, 99, [("far", "failed"), ("near", "failed")], State.FAILED),
        ):
            with self.subTest(rules=rules, times=times):
                goals = [stop("far", FAR, **rules), stop("near", NEAR)]
                navigator, _ = mission(goals, [], planner=Refusing(FAR, times))
                self.assertEqual((self.ends(navigator), navigator.state), (ends, state))
        # One that fails on the way is no reason for the next one to fail.
        goals = [stop("near", NEAR), stop("far", FAR), stop("back", NEAR)]
        navigator, _ = mission(goals, ["back out", "look around"], planner=Refusing(FAR, 99))
        self.assertEqual(self.ends(navigator), [("near", "reached"), ("far", "failed"), ("back", "reached")])
        self.assertNotIn("nan", navigator.reason)

    def test_it_plans_from_the_nearest_open_place_where_its_own_is_closed(self):
        floor = price_floor(room(), robot())
        check = BodyCheck(floor, robot())
        for x, y in ((0.6, 2.0), (1.0, 0.2), (5.8, 3.0), (3.0, 2.0)):
            pose = np.array([x, y, 0.4])
            with self.subTest(x=x, y=y):
                found = free_start(floor, robot(), pose)
                # Every cell within reach by brute force.
                rows, columns = np.mgrid[: floor.grid.shape[0], : floor.grid.shape[1]]
                points = np.column_stack([0.05 * (columns.ravel() + 0.5), 0.05 * (rows.ravel() + 0.5)])
                near = points[(np.abs(np.floor(points / 0.05) - np.floor(pose[:2] / 0.05)) <= 8).all(axis=1)]
                poses = np.column_stack([near, np.full(len(near), 0.4)])
                fits = poses[check.touched(poses) < 0]
                if check.touched(pose)[0] < 0 or len(fits) == 0:
                    np.testing.assert_array_equal(found, pose)
                else:
                    least = np.hypot(*(fits - pose)[:, :2].T).min()
                    self.assertLess(check.touched(found)[0], 0)
                    self.assertAlmostEqual(float(np.hypot(*(found - pose)[:2])), float(least))


if __name__ == "__main__":
    unittest.main()
