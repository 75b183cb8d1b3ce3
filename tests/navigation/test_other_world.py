"""The loop on bases that are not our simulator's: see `benchmarks.other_world`, which shares no code with it."""

import threading
import unittest
from dataclasses import replace

import numpy as np
from benchmarks.other_world.faults import fault_of
from benchmarks.other_world.mission import Mission, drive, map_of
from benchmarks.other_world.robots import draw_robot
from benchmarks.other_world.sites import hall, market

from tests.support import room
from vinecompass import Command, InputError, Navigator, Zone
from vinecompass.navigation import LoopPlanner

SITE = hall(np.random.default_rng(4))
MAP = map_of(SITE)


def mission(start, goal, *, kind="cart", seed=3, **robot):
    drawn = replace(draw_robot(kind, np.random.default_rng(seed), tells_delay=False), **robot)
    return Mission(SITE, drawn, np.array(start), np.array(goal), 10.0, seed)


def driven(task, *, time_limit=40.0, fault=None, prepare=None, walker=None):
    """Drive a mission; return what came of it, the commands' turn rates over time, and the navigator."""
    navigator, rates = Navigator(MAP, task.robot.filed, task.start, task.goal, seed=1), []
    if prepare is not None:
        prepare(navigator)
    spoil = None if fault is None else fault_of(fault, task, np.random.default_rng(2))

    def each(t, base, navigator):
        rates.append((t, navigator._command.turn_rate, float(np.hypot(*base.velocity[:2]))))

    outcome = drive(task, navigator, time_limit=time_limit, fault=spoil, each=each, walker=walker)
    return outcome, np.array(rates), navigator


class OtherBases(unittest.TestCase):
    def test_the_last_turn_ends_at_once_whatever_the_delay_and_the_rate(self):
        for delay, rate in ((0.0, 50.0), (0.2, 10.0), (0.2, 50.0), (0.4, 20.0), (0.4, 5.0)):
            with self.subTest(delay=delay, rate=rate):
                task = mission([2.0, 7.0, 0.0], [2.0, 7.0, 2.6], delay=delay, lag=0.05, loop_rate=rate)
                outcome, rates, _ = driven(task)
                self.assertEqual((outcome.state, outcome.contacts), ("finished", 0))
                self.assertLess(outcome.off_deg, 2.0)
                turning = np.sign(rates[np.abs(rates[:, 1]) > 0.01, 1])
                self.assertLessEqual(np.count_nonzero(np.diff(turning)), 1)
                # The time that 2.6 radians take at the drive's limits, the delay, and three seconds.
                drive_ = task.robot.filed.drive
                least = 2.6 / drive_.top_turn_rate + drive_.top_turn_rate / drive_.turn_acceleration
                self.assertLess(outcome.seconds, 1.3 + least + 2.0 * delay + 3.0)

    def test_every_kind_of_drive_arrives_within_its_limits_and_touches_nothing(self):
        for kind, rate in (("long", 50.0), ("omni", 20.0), ("car", 30.0)):
            with self.subTest(kind=kind):
                task = mission([2.0, 7.0, 0.3], [9.0, 6.5, 0.3], kind=kind, delay=0.25, lag=0.1, loop_rate=rate)
                outcome, _, navigator = driven(task, time_limit=60.0)
                self.assertEqual((outcome.state, outcome.contacts), ("finished", 0), outcome)
                self.assertLess(outcome.over_limits, 1e-6)
                self.assertLess(outcome.off, 0.1)
                self.assertLess(outcome.off_deg, 3.0)
                self.assertAlmostEqual(navigator._senses._delay.seconds, 0.35, delta=0.08)

    def test_a_base_that_does_not_creep_arrives_within_the_stops_own_tolerance(self):
        task = mission([2.0, 7.0, 0.3], [6.0, 6.5, 1.5], delay=0.2, loop_rate=20.0)
        drive_ = task.robot.filed.drive.model_copy(update={"least_speed": 0.08, "least_turn_rate": 0.15})
        filed = task.robot.filed.model_copy(update={"drive": drive_})
        outcome, _, _ = driven(replace(task, robot=replace(task.robot, filed=filed)))
        self.assertEqual((outcome.state, outcome.contacts), ("finished", 0), outcome)
        self.assertLess(outcome.off, 0.08)
        self.assertLess(outcome.off_deg, 2.5)
        self.assertLess(outcome.seconds, 25.0)

    def test_whatever_goes_wrong_it_touches_nothing_and_says_why_it_stands(self):
        for kind, word in (
            ("covered half", "beams give no reading"),
            ("no echo", "beams give no reading"),
            ("clock back", ""),
            ("swapped scans", ""),
            ("wrong lengths", "beams, the lidar"),
            ("dead wheel", "a wheel slips or sticks"),
            ("silent sector", "show nothing where the map has walls"),
            ("odometry backwards", "the scans go back"),
            ("mirrored scanner", "the scans turn the other way"),
            ("millimetres", "is it in metres"),
            ("odometry begun anew", "the odometry leaps by"),
            ("spinning wheels", "the wheels turn on the spot"),
        ):
            with self.subTest(kind=kind):
                task = mission([2.0, 7.0, 0.3], [9.0, 6.5, 0.3], delay=0.2, loop_rate=20.0)
                outcome, _, navigator = driven(task, fault=kind)
                self.assertEqual(outcome.contacts, 0)
                self.assertLess(outcome.over_limits, 1e-6)
                said = " ".join(
                    [entry.reason for entry in navigator.log.states] + [each.text for each in navigator.log.notices]
                )
                self.assertIn(word, said)
                self.assertTrue(outcome.state == "finished" or word, outcome)

    def test_before_one_who_walks_across_and_whom_nobody_tracks_it_stands(self):
        # They would meet at up to 0.8 m/s, were what is seen taken for standing.
        for kind, meets in (("cart", 5.5), ("cart", 6.5), ("omni", 6.0), ("omni", 7.0)):
            with self.subTest(kind=kind, meets=meets):
                task = mission([2.0, 7.0, 0.0], [10.0, 7.0, 0.0], kind=kind, delay=0.2, loop_rate=20.0)
                walker = lambda t, meets=meets: np.array([6.0, 7.0 + 0.8 * (meets - t)])  # noqa: E731
                outcome, _, _ = driven(task, walker=walker)
                self.assertEqual((outcome.state, outcome.contacts), ("finished", 0))
                self.assertLess(outcome.struck or 0.0, 0.1)

    def test_in_manual_it_does_not_back_over_floor_that_it_never_saw(self):
        task = mission([2.0, 7.0, 0.0], [9.0, 6.5, 0.3], seed=5, delay=0.1, loop_rate=20.0)
        self.assertGreater(task.robot.filed.scanner.first_beam_deg, -170.0)
        navigator, begun = Navigator(MAP, task.robot.filed, task.start, task.goal, seed=1), []

        def each(t, base, navigator):
            begun.append(base.pose[0])
            navigator.manual(Command(-0.3))

        drive(task, navigator, time_limit=6.0, each=each)
        # As far as the body turns, the start is taken on trust; the cells are a tenth of a metre wide.
        self.assertLess(begun[0] - min(begun), 0.3)
        self.assertEqual((navigator.state, navigator.reason), ("manual", "has not seen the floor there"))


class NotWhereItBelieves(unittest.TestCase):
    def test_what_it_saw_beside_it_stays_when_its_place_is_told_anew_but_not_when_it_was_carried(self):
        for carried in (False, True):
            task = mission([2.0, 7.0, 0.3], [12.0, 6.5, 0.3], delay=0.1, loop_rate=20.0)
            navigator, kept = Navigator(MAP, task.robot.filed, task.start, task.goal, seed=1), []

            def each(t, base, navigator, carried=carried, kept=kept):
                kept.append(len(navigator._senses._before._kept))
                if len(kept) == 80:
                    if carried:
                        base.pose[:] = [13.0, 3.5, 2.0]
                    navigator.relocate(base.pose + [0.0, 0.8 * (not carried), 0.0])

            with self.subTest(carried=carried):
                drive(task, navigator, time_limit=6.0, each=each)
                left = min(kept[79:95]) / kept[78]
                self.assertTrue(left < 0.3 if carried else left > 0.9, left)

    def test_on_the_map_of_another_building_it_looks_about_and_touches_nothing(self):
        task = mission([2.0, 7.0, 0.3], [12.0, 6.5, 0.3], delay=0.1, loop_rate=20.0)
        task = replace(task, site=market(np.random.default_rng(9)))
        outcome, _, navigator = driven(task, time_limit=30.0)
        self.assertEqual((outcome.contacts, navigator.state), (0, "finding itself"))

    def test_another_map_of_the_same_floor_is_taken_up_on_the_way(self):
        task, poses = mission([2.0, 7.0, 0.3], [12.0, 6.5, 0.3], delay=0.1, loop_rate=20.0), []
        rows, columns = np.indices(MAP.shape)
        points = MAP.points_of(np.stack([rows, columns], axis=-1).reshape(-1, 2)).reshape(*MAP.shape, 2)
        post = np.all(np.abs(points - [7.5, 6.7]) < [0.4, 0.6], axis=-1)
        other = replace(MAP, log_odds=np.where(post, np.float32(3.0), MAP.log_odds))
        navigator = Navigator(MAP, task.robot.filed, task.start, task.goal, seed=1)

        def each(t, base, navigator):
            poses.append(base.pose.copy())
            if len(poses) == 60:
                navigator.use(other)

        outcome = drive(task, navigator, time_limit=60.0, each=each)
        self.assertEqual((outcome.state, outcome.contacts), ("finished", 0))
        # Nothing stands there: by the other map alone it keeps away.
        self.assertGreater(np.hypot(*(np.array(poses)[:, :2] - [7.5, 6.7]).T).min(), 0.8)
        navigator.go(task.goal)
        with self.assertRaises(InputError):
            navigator.use(room())


class PlansBeside(unittest.TestCase):
    def test_no_step_waits_for_a_plan_and_the_robot_stands_until_it_is_there(self):
        task = mission([2.0, 7.0, 0.3], [12.0, 6.5, 0.3], kind="car", delay=0.1, loop_rate=20.0)
        usual, may_plan, asked = LoopPlanner(margin=0.04), threading.Event(), []

        class Slow:
            def plan(self, costmap, *rest, **options):
                asked.append(costmap)
                may_plan.wait(60.0)
                return usual.plan(costmap, *rest, **options)

        navigator = Navigator(MAP, task.robot.filed, task.start, task.goal, seed=1, planner=Slow(), plans_beside=True)

        def each(t, base, navigator):
            if t < 1.0:
                self.assertEqual((navigator.reason, navigator._command.standing), ("plans a way", True))
            else:
                may_plan.set()

        outcome = drive(task, navigator, time_limit=40.0, each=each)
        self.assertEqual((outcome.state, outcome.contacts), ("finished", 0), outcome)
        # What the planner works on is not what the loop goes on changing.
        self.assertTrue(all(costmap.prices is not navigator.costmap.prices for costmap in asked))


class Integrators(unittest.TestCase):
    def test_stops_are_added_replaced_and_cancelled_on_the_way_and_speeds_are_shared_out(self):
        task = mission([2.0, 7.0, 0.0], [9.0, 7.0, 0.0], kind="round", delay=0.1, loop_rate=20.0)
        navigator = Navigator(MAP, task.robot.filed, task.start, task.goal, seed=1)
        navigator.speed_share, fastest, seen = 0.5, [], set()

        def each(t, base, navigator):
            fastest.append(np.hypot(*base.velocity[:2]))
            if t > 4.0 and "went on" not in seen:
                seen.add("went on")
                self.assertGreater(navigator.distance_left, 3.0)
                self.assertTrue(0.9 < 0.35 * navigator.time_left / navigator.distance_left < 4.0)
                navigator.go([4.0, 7.0, 0.0])
                navigator.go([3.0, 7.0, 3.0], afterwards=True)
            if t > 6.0 and "pressed" not in seen:
                seen.add("pressed")
                navigator.emergency = "red button"
            if t > 9.0 and navigator.emergency:
                self.assertEqual((navigator.state, navigator.reason), ("stale", "red button"))
                self.assertLess(fastest[-1], 1e-3)
                navigator.emergency = ""

        outcome = drive(replace(task, goal=np.array([3.0, 7.0, 3.0])), navigator, time_limit=60.0, each=each)
        self.assertEqual(outcome.state, "finished")
        self.assertLess(outcome.off, 0.1)
        self.assertLess(max(fastest), 0.5 * task.robot.filed.drive.top_speed + 0.02)
        self.assertEqual([stop.status for stop in navigator.log.stops], ["cancelled", "reached", "reached"])

    def test_zones_on_the_way_and_what_the_base_made_of_a_command_are_heeded(self):
        task = mission([2.0, 7.0, 0.0], [9.0, 7.0, 0.0], kind="round", delay=0.1, loop_rate=20.0)
        fence = Zone(name="fence", kind="closed", polygon=[(5.5, 5.0), (6.0, 5.0), (6.0, 9.0), (5.5, 9.0)])
        navigator, told, way = Navigator(MAP, task.robot.filed, task.start, task.goal, seed=1), [], []

        def each(t, base, navigator):
            way.append(base.pose[:2].copy())
            if t > 2.0 and not told:
                told.append(t)
                navigator.use(zones=[fence])

        self.assertEqual(drive(task, navigator, time_limit=60.0, each=each).state, "finished")
        self.assertFalse(any(5.5 < x < 6.0 and 5.0 < y < 9.0 for x, y in way))
        # A base that goes at 0.1 m/s at most, and says so, is not asked for more than it can change to from there.
        navigator, allowed = Navigator(MAP, task.robot.filed, task.start, task.goal, seed=1), Command()
        step, drive_ = navigator.step, task.robot.filed.drive

        def capped(t, scan, odometry):
            nonlocal allowed
            command = step(t, scan, odometry, applied=allowed)
            self.assertLessEqual(command.speed, allowed.speed + 1.2 * drive_.acceleration / 20.0 + 1e-9)
            allowed = command.scaled(min(1.0, 0.1 / max(command.speed, 1e-9)))
            return allowed

        navigator.step = capped
        drive(task, navigator, time_limit=5.0)
        self.assertAlmostEqual(allowed.speed, 0.1)

    def test_a_pose_told_from_outside_is_taken_up(self):
        task = mission([2.0, 7.0, 0.0], [6.0, 7.0, 0.0], delay=0.1, loop_rate=20.0)
        # Told a wrong start; a person points at the right one before it has moved.
        navigator, told = Navigator(MAP, task.robot.filed, [12.0, 3.0, 2.0], task.goal, seed=1), []
        navigator.hold("not sure where it is")

        def each(t, base, navigator):
            if t > 1.0 and not told:
                told.append(t)
                navigator.relocate(task.start)
                navigator.resume()

        outcome = drive(task, navigator, time_limit=40.0, each=each)
        self.assertEqual(outcome.state, "finished")
        self.assertLess(outcome.off, 0.06)


if __name__ == "__main__":
    unittest.main()
