import unittest
from dataclasses import replace
from unittest import mock

import numpy as np
from shapely import Point, Polygon

from tests.support import altered_robot, assert_input_error, new_folder, robot, room, short_mapping, short_run, site
from vinecompass import Command, Navigator, Settings, Track, Zone, price_floor, read_round
from vinecompass.contact import Walking
from vinecompass.geometry import arc, compose, inverse, transform_points
from vinecompass.motion import limit_command, limits_of
from vinecompass.navigation import InputWatch, MissionLog, Safety, Situation
from vinecompass.navigation.recovery.find_myself import FindMyself
from vinecompass.navigation.recovery.recoveries import RECOVERIES, BackOut
from vinecompass.navigation.sensing.near_of_late import NearOfLate
from vinecompass.navigation.sensing.seen_before import SeenBefore
from vinecompass.navigation.sensing.seen_floor import SeenFloor
from vinecompass.runs import Scan
from vinecompass.settings import RecoverySettings, SafetySettings

DRIVING = Command(0.5, turn_rate=0.0)
HEAD = 'format = "vinecompass round"\nversion = 1\n'


class RoundFile(unittest.TestCase):
    def read(self, text):
        path = new_folder() / "round.toml"
        path.write_text(HEAD + text)
        return read_round(path)

    def test_stops_by_name_and_by_pose_and_where_it_starts(self):
        text = 'dock = "dock"\n[[stop]]\nname = "press"\ndwell = 3.0\n'
        text += '[[stop]]\npose = [30.0, 18.5, 90.0]\non_failure = "stop"\n'
        the_round = self.read(text)
        first, second = the_round.goals(site().stops)
        np.testing.assert_allclose(first.pose, site().find_stop("press").site_pose)
        np.testing.assert_allclose(second.pose, [30.0, 18.5, np.pi / 2])
        self.assertEqual((first.rules.dwell, second.rules.on_failure, second.name), (3.0, "stop", "stop 2"))
        np.testing.assert_allclose(the_round.initial_pose(site().stops, None), site().find_stop("dock").site_pose)
        self.assertIsNone(self.read('found = true\n[[stop]]\nname = "press"\n').initial_pose([], [1, 2, 3]))
        told = self.read('start = [1.0, 2.0, 90.0]\n[[stop]]\nname = "press"\n').initial_pose([], None)
        np.testing.assert_allclose(told, [1.0, 2.0, np.pi / 2])

    def test_mistakes_are_named_in_one_line(self):
        for text, words in (
            ('[[stop]]\nname = "atlantis"\n', ["atlantis", "one of", "press"]),
            ("[[stop]]\ndwell = 1.0\n", ["stop[0]", "name or a pose"]),
            ('[[stop]]\nname = "press"\non_failure = "cry"\n', ["stop[0].on_failure", "cry", "skip"]),
            ('[[stop]]\nname = "press"\nposition_tolerance = 0\n', ["stop[0].position_tolerance", "0"]),
            ('start = [1, 2, 3]\nfound = true\n[[stop]]\nname = "press"\n', ["only one of start, dock and found"]),
            ("", ["stop", "missing"]),
            ('[[stop]]\nname = "press"\npos = 1\n', ["stop[0].pos", "perhaps `pose`"]),
        ):
            with self.subTest(text=text):
                assert_input_error(self, lambda t=text: self.read(t).goals(site().stops), *words)
        grid = short_mapping().grid
        for goal, words in (([500.0, 0.0, 0.0], ["lies off the map", "500"]), ([np.nan, 0.0, 0.0], ["goal", "finite"])):
            assert_input_error(self, lambda g=goal: Navigator(grid, robot(), short_run().start, g, seed=1), *words)


class Watching(unittest.TestCase):
    """What comes in is spoilt in one way at a time."""

    def troubles(self, spoil, command=DRIVING, seconds=3.0):
        watch, found, rng = InputWatch(SafetySettings(), robot()), [], np.random.default_rng(1)
        for i in range(round(seconds / 0.1)):
            t = 0.1 * (i + 1)
            scan = Scan(t - 0.1, rng.uniform(1.0, 3.0, 433).astype(np.float32))
            stamps = t - 0.02 * np.arange(4.0, -1.0, -1.0)
            odometry = Track(stamps, np.column_stack([0.5 * stamps, 0 * stamps, 0 * stamps]))
            found.append(watch.take(*spoil(t, scan, odometry), command).trouble)
        return found, watch

    def test_good_input_is_no_trouble_and_each_fault_is_named(self):
        kept = {}

        def first(key, value):
            return kept.setdefault(key, value)

        def half_blind(t, scan, odometry):
            return t, Scan(scan.t, np.where(np.arange(433) < 200, np.float32(np.nan), scan.ranges)), odometry

        def beams_that_read(value):
            return lambda t, s, o: (t, Scan(s.t, np.where(np.arange(433) < 200, np.float32(value), s.ranges)), o)

        for name, spoil, words in (
            ("good", lambda *x: x, ""),
            ("slow wheels", lambda t, s, o: (t, s, Track(o.t, 0.2 * o.poses)), ""),
            ("nothing in reach", beams_that_read(np.inf), ""),
            ("covered", beams_that_read(0.02), "200 of 433 beams"),
            ("no echo", beams_that_read(0.0), "200 of 433 beams"),
            ("beyond reach", beams_that_read(65.0), "200 of 433 beams"),
            ("no scan", lambda t, s, o: (t, None if t > 1.0 else s, o), "there is no scan"),
            ("other beams", lambda t, s, o: (t, Scan(s.t, s.ranges[:99]), o), "has 99 beams, the lidar 433"),
            ("no odometry", lambda t, s, o: (t, s, None), "there is no odometry"),
            ("one row", lambda t, s, o: (t, s, Track(o.t[-1:], o.poses[-1:])), "1 rows in order"),
            ("no rows", lambda t, s, o: (t, s, Track(o.t[:0], o.poses[:0])), "0 rows in order"),
            ("ragged", lambda t, s, o: (t, s, Track(o.t, o.poses[:-1])), "5 stamps for poses of shape (4, 3)"),
            (
                "nan inside",
                lambda t, s, o: (t, s, Track(o.t, o.poses + [[0], [np.nan], [0], [0], [0]])),
                "not a number",
            ),
            ("nan clock", lambda t, s, o: (np.nan if t > 1.0 else t, s, o), "the clock says nan"),
            ("no stamp", lambda t, s, o: (t, Scan(np.nan, s.ranges), o), "stamped nan"),
            ("standing clock", lambda t, s, o: (min(t, 1.0), s, o), "the clock stands still"),
            ("ahead", lambda t, s, o: (t, Scan(s.t + 0.4, s.ranges), o), "0.30 s ahead of the clock"),
            ("old scan", lambda t, s, o: (t, Scan(0.0, s.ranges), o), "the scan is"),
            ("old odometry", lambda t, s, o: (t, s, Track(np.arange(5.0) * 0.01, o.poses)), "the odometry is"),
            ("nan odometry", lambda t, s, o: (t, s, Track(o.t, o.poses * np.nan)), "not a number"),
            ("half blind", half_blind, "200 of 433 beams"),
            ("frozen scan", lambda t, s, o: (t, Scan(s.t, first("scan", s.ranges)), o), "same scan"),
            ("frozen odometry", lambda t, s, o: (t, s, Track(o.t, 0.0 * o.poses)), "stands still"),
            (
                "jump",
                lambda t, s, o: (
                    t + 50.0 * (t > 1.0),
                    Scan(s.t + 50.0 * (t > 1.0), s.ranges),
                    Track(o.t + 50.0 * (t > 1.0), o.poses),
                ),
                "clock jumped by 50.10 s",
            ),
            (
                "back",
                lambda t, s, o: (
                    t - 9.0 * (t > 1.0),
                    Scan(s.t - 9.0 * (t > 1.0), s.ranges),
                    Track(o.t - 9.0 * (t > 1.0), o.poses),
                ),
                "clock jumped by -8.9",
            ),
        ):
            with self.subTest(name=name):
                found, _ = self.troubles(spoil)
                if words:
                    self.assertTrue(any(words in trouble for trouble in found), found[-1])
                else:
                    self.assertEqual(set(found), {""})
                if name in ("jump", "back"):
                    # It settles, and drives on.
                    self.assertEqual(found[-1], "")

    def test_a_robot_that_stands_may_see_the_same_scan_and_odometry_for_ever(self):
        ranges, pose = np.ones(433, np.float32), np.zeros((5, 3))
        found, _ = self.troubles(
            lambda t, s, o: (t, Scan(s.t, ranges), Track(o.t, pose)), command=Command(), seconds=5.0
        )
        self.assertEqual(set(found), {""})

    def test_odometry_that_stood_still_is_not_crept_by_without_end(self):
        watch, rng = InputWatch(SafetySettings(), robot()), np.random.default_rng(3)
        asked, found, lasting = [0.0], [], []
        for i in range(300):
            t = 0.1 * (i + 1)
            command = Command(0.4) if t < 2.0 else Command(0.01) if i % 3 == 0 and not found[-1] else Command()
            scan = Scan(t - 0.1, rng.uniform(1.0, 3.0, 433).astype(np.float32))
            odometry = Track(t - 0.02 * np.arange(4.0, -1.0, -1.0), np.zeros((5, 3)))
            found.append(watch.take(t, scan, odometry, command).trouble)
            asked.append(asked[-1] + 0.1 * command.speed)
            lasting.append(watch.lasting)
        began = next(i for i, trouble in enumerate(found) if trouble)
        again = next(i for i in range(began + 40, 300) if found[i])
        self.assertLess(asked[again] - asked[began + 20], 0.025)
        self.assertGreater(lasting[again], 6.0)

    def test_beams_that_leap_or_end_over_the_robots_own_body_are_no_readings(self):
        rng, walls = np.random.default_rng(8), np.linspace(1.0, 4.0, 433).astype(np.float32)

        def sun(ranges):
            ranges[:70] = rng.uniform(0.5, 15.0, 70)

        def dirt(ranges):
            ranges[200:260] = rng.uniform(0.09, 0.12, 60)

        for spoil, part in ((sun, slice(0, 70)), (dirt, slice(200, 260))):
            with self.subTest(spoil=spoil.__name__):
                watch = InputWatch(SafetySettings(), robot())
                for i in range(40):
                    ranges = walls + rng.normal(0.0, 0.01, 433).astype(np.float32)
                    spoil(ranges)
                    t = 0.1 * (i + 1)
                    odometry = Track(t - np.array([0.1, 0.0]), np.array([[0.05 * i, 0, 0], [0.05 * i + 0.05, 0, 0]]))
                    seen = watch.take(t, Scan(t - 0.1, ranges), odometry, DRIVING).scan.ranges
                self.assertGreater(np.mean(np.isnan(seen[part])), 0.9)
                self.assertLess(np.count_nonzero(np.isnan(seen)), 70.5)

    def test_trouble_that_lasts_is_counted(self):
        _, watch = self.troubles(lambda t, s, o: (t, Scan(0.0, s.ranges), o), seconds=5.0)
        self.assertAlmostEqual(watch.lasting, 4.6, delta=0.2)


class Guarding(unittest.TestCase):
    def test_zones_people_and_limits_cap_what_is_wanted_and_every_intervention_has_its_numbers(self):
        zone = Zone(name="z", kind="slow", speed=0.3, polygon=[(0, 0), (6, 0), (6, 4), (0, 4)])
        floor = price_floor(room(), robot(), zones=[zone])
        log = MissionLog()
        safety = Safety(robot(), log=log)
        nothing = np.zeros((0, 2))
        command = Command()
        for i in range(20):
            command = safety.check(
                0.1 * i, Command(1.0, turn_rate=0.0), command, nothing, duration=0.1, pose=[3, 2, 0], floor=floor
            )
        self.assertLessEqual(command.speed, 0.3 + 1e-6)
        self.assertEqual([each.rule for each in log.interventions], ["in a slow zone"])
        self.assertAlmostEqual(log.interventions[0].numbers["zone_m_per_s"], 0.3, places=6)
        self.assertIn("in a slow zone", str(log.interventions[0]))
        person = [Walking(4.0, 2.0)]
        for i in range(20):
            command = safety.check(
                3.0 + 0.1 * i,
                Command(1.0, turn_rate=0.0),
                command,
                nothing,
                duration=0.1,
                pose=[3, 2, 0],
                people=person,
            )
        self.assertLess(command.speed, 0.3)
        self.assertTrue({"near a person", "brakes before something seen"} & {i.rule for i in log.interventions[1:]})
        wild = safety.check(9.0, Command(np.inf, turn_rate=np.nan), command, nothing, duration=0.1)
        self.assertTrue(np.isfinite(wild.velocity).all())
        self.assertEqual(wild, limit_command(Command(), command, 0.1, limits_of(robot().drive)))

    def test_interventions_by_one_rule_that_follow_each_other_are_one_and_others_are_not(self):
        log = MissionLog()
        for t in (0.0, 0.1, 0.2, 0.55, 0.65):
            log.intervene(t, 0.1, "a rule", Command(1.0), Command(), {})
        self.assertEqual([(each.begin, round(each.end, 2)) for each in log.interventions], [(0.0, 0.3), (0.55, 0.75)])

    def test_nobody_is_run_into_however_he_walks(self):
        rng, safety = np.random.default_rng(8), Safety(robot())
        for _ in range(25):
            place, velocity = rng.uniform([1.2, -1.5], [3.0, 1.5]), rng.uniform(-0.5, 0.5, 2)
            pose, command = np.zeros(3), Command()
            for i in range(40):
                command = safety.check(
                    0.1 * i,
                    Command(1.1, turn_rate=0.2),
                    command,
                    np.zeros((0, 2)),
                    duration=0.1,
                    pose=pose,
                    people=[Walking(*place, *velocity)],
                )
                pose, place = compose(pose, arc(command.velocity, 0.1)), place + 0.1 * velocity
                body = Polygon(transform_points(pose, robot().body.polygon))
                if command.standing:
                    break
                self.assertGreater(body.distance(Point(place)), 0.2)

    def test_what_went_out_of_sight_is_remembered_where_it_is(self):
        before, lidar = SeenBefore(robot()), robot().scanner
        # The last of them was out of sight before the body could have reached it in a turn: it may back up to it.
        posts = np.array([[0.3, 0.7], [0.0, 0.6], [1.2, 0.0], [-1.0, 1.2]])
        kept = []
        for i in range(30):
            pose = np.array([0.05 * i - 1.0, 0.0, 0.0])
            local = transform_points(inverse(pose), posts)
            bearing = np.arctan2(*(local - lidar.mount_pose[:2]).T[::-1])
            kept = before.add(0.1 * i, pose, local[np.abs(bearing) < np.radians(135.0)])
        back = transform_points(pose, kept)
        for post in posts[[1, 3]]:
            self.assertLess(np.hypot(*(back - post).T).min(initial=9.0), 0.03)
        self.assertEqual(len(before.add(120.0, pose, np.zeros((0, 2)))), 0)

    def test_no_body_creeps_by_on_lucky_scans(self):
        rng, corner = np.random.default_rng(6), np.array([0.7, 0.28])
        body, gaps = Polygon(robot().body.polygon), []
        for remembers in (True, False):
            check, of_late = Safety(robot()), NearOfLate(robot())
            pose, command = np.zeros(3), Command()
            for step in range(900):
                t = 0.1 * step
                seen = transform_points(inverse(pose), [corner]) + rng.normal(0.0, 0.015, (3, 2))
                late = of_late.add(t, pose, seen, command)
                points = np.vstack([seen, late]) if remembers else seen
                command = check.check(t, Command(0.03), command, points, duration=0.1)
                pose = compose(pose, arc(command.velocity, 0.1))
            gaps.append(body.distance(Point(transform_points(inverse(pose), [corner])[0])))
        self.assertGreater(gaps[0], 0.02)
        self.assertLess(gaps[1], 0.5 * gaps[0])
        self.assertEqual(len(of_late.add(t + 0.1, pose, seen, Command(0.5))), 0)

    def test_a_body_however_long_may_turn_where_it_is_put_down_but_not_leave_unseen(self):
        for tail in (0.5, 2.2):
            with self.subTest(tail=tail):
                outline = [(-tail, -0.4), (0.4, -0.4), (0.4, 0.4), (-tail, 0.4)]
                floor = SeenFloor(altered_robot(robot(), body={"outline": outline}))
                pose = np.array([3.0, -2.0, 0.7])
                floor.put_down(0.0, pose, room(), None)
                for velocity, unseen in (([0.0, 0.0, 0.5], False), ([0.0, 0.0, -0.5], False), ([-0.5, 0.0, 0.0], True)):
                    self.assertIs(floor.unseen(0.0, pose, np.zeros(3), np.array(velocity), 1.5), unseen)


def situation(t, pose, floor, unseen=lambda *motion: False):
    """A moment at which a robot that does not know where it is stands somewhere."""
    estimate = mock.Mock(settled=False)
    nothing = np.zeros((0, 2))
    return Situation(
        t,
        0.1,
        pose,
        pose,
        estimate,
        floor,
        (),
        False,
        nothing,
        unseen,
        lambda: nothing,
        lambda: None,
        Command(),
        np.zeros(3),
    )


class Modes(unittest.TestCase):
    def navigator(self, **settings):
        run = short_run()
        return Navigator(
            short_mapping().grid, robot(), run.start, run.start + [1.5, 0, 0], seed=1, settings=Settings(**settings)
        ), run

    def steps(self, navigator, count, first=0):
        """Feed the standing seconds of a recording."""
        scans = list(short_run().scans)[first : first + count]
        commands = []
        for scan in scans:
            stamps = scan.t + np.linspace(0.0, 0.1, 6)
            commands.append(navigator.step(scan.t + 0.1, scan, Track(stamps, np.zeros((6, 3)))))
        return commands

    def test_hold_stands_manual_passes_through_under_the_limits_and_resume_goes_on(self):
        navigator, _ = self.navigator()
        self.steps(navigator, 4)
        navigator.hold("lunch")
        held = self.steps(navigator, 4, 4)
        self.assertTrue(held[-1].standing)
        self.assertEqual((navigator.state, navigator.reason), ("holding", "lunch"))
        navigator.manual(Command(5.0, turn_rate=0.0))
        driven = self.steps(navigator, 4, 8)
        self.assertEqual(navigator.state, "manual")
        self.assertGreater(driven[-1].speed, driven[0].speed)
        self.assertLessEqual(driven[0].speed, 0.1 * robot().drive.acceleration + 1e-9)
        # Whoever lets go stops it: a command holds for half a second.
        left = self.steps(navigator, 8, 12)
        self.assertTrue(left[-1].standing)
        self.assertEqual((navigator.state, navigator.reason), ("manual", "no command from a person for 0.5 s"))
        navigator.resume()
        self.steps(navigator, 2, 20)
        self.assertEqual(navigator.state, "driving")
        states = [entry.state for entry in navigator.log.states]
        self.assertEqual(
            [s for i, s in enumerate(states) if i == 0 or s != states[i - 1]],
            ["driving", "holding", "manual", "driving"],
        )

    def test_held_it_stands_for_any_time_without_a_scanner_and_driving_it_says_so_and_gives_up(self):
        for held in (True, False):
            navigator, _ = self.navigator()
            self.steps(navigator, 4)
            if held:
                navigator.hold("lunch")
            silent = Scan(0.5, np.full(433, np.nan, np.float32))
            for i in range(140):
                t = 0.6 + 0.1 * i
                track = Track(t + np.linspace(-0.1, 0.0, 6), np.zeros((6, 3)))
                self.assertTrue(navigator.step(t, replace(silent, t=t - 0.1), track).standing or i < 12)
            told = ("holding", "lunch") if held else ("failed", "no input to drive by for 10 s")
            self.assertEqual((navigator.state, navigator.reason[:29]), told)

    def test_a_clock_that_is_set_and_scans_that_come_late_are_got_over_within_a_second(self):
        for jump in (-5.0, 30.0):
            navigator, _ = self.navigator()
            self.steps(navigator, 4)
            states = []
            for i in range(4, 17):
                scan, shift = short_run().scans[i], jump * (i >= 8)
                late = short_run().scans[i - 2] if i % 3 == 0 else scan
                track = Track(scan.t + np.linspace(-0.1, 0.1, 11) + shift, np.zeros((11, 3)))
                navigator.step(scan.t + 0.1 + shift, replace(late, t=late.t + shift), track)
                states.append(navigator.state)
            self.assertEqual(set(states[:4]), {"driving"})
            self.assertEqual(states[4], "stale")
            self.assertEqual(states[-1], "driving", navigator.reason)
            told = " ".join(entry.reason for entry in navigator.log.states)
            self.assertIn(f"clock jumped by {jump + 0.1:.2f} s", told)

    def test_recoveries_come_in_order_unless_the_map_closes_the_way_and_then_the_stop_fails_with_the_reason(self):
        run, mapped = short_run(), short_mapping().grid
        x, y, _ = run.start + [1.5, 0, 0]
        fence = [
            Zone(name="fence", kind="closed", polygon=[(x + a, y + b), (x + c, y + b), (x + c, y + d), (x + a, y + d)])
            for a, b, c, d in ((-0.8, -2, -0.7, 2), (0.7, -2, 0.8, 2), (-0.8, -2, 0.8, -1.9), (-0.8, 1.9, 0.8, 2))
        ]
        # Unknown floor all round may be seen yet; a closed zone stays closed, and so does a stop that the map closes.
        moat, hole = (replace(mapped, log_odds=mapped.log_odds.copy()) for _ in range(2))
        points = moat.points_of(np.argwhere(np.ones(moat.shape, bool))) - (x, y)
        away = np.abs(points).max(axis=1).reshape(moat.shape)
        moat.log_odds[np.abs(away - 0.75) < 0.1] = 0.0
        hole.log_odds[np.abs(away - 0.15) < 0.1] = 0.0
        order = ["forget obstacles", "wait", "forget obstacles"]
        for grid, zones, recoveries, why in (
            (moat, [], order, "every way leads over or beside unknown"),
            (mapped, fence, [], "closed zone"),
            (hole, [], [], "m from floor closed by the layer 'map' (unknown"),
        ):
            with self.subTest(why=why):
                navigator = Navigator(
                    grid,
                    robot(),
                    run.start,
                    [x, y, 0.0],
                    zones=zones,
                    seed=1,
                    settings=Settings.model_validate({"navigation": {"recovery": order}}),
                )
                for i in range(120):
                    scan, t = list(run.scans)[i % 25], 0.1 * (i + 1)
                    track = Track(t - 0.1 + np.linspace(0.0, 0.1, 6), np.zeros((6, 3)))
                    navigator.step(t, Scan(t - 0.1, scan.ranges), track)
                    if navigator.over:
                        break
                self.assertEqual(navigator.state, "failed")
                told = [entry.reason.split(",")[0] for entry in navigator.log.states if entry.state == "recovering"]
                self.assertEqual(told, recoveries)
                self.assertIn(why, navigator.log.stops[0].reason)
                self.assertEqual(navigator.log.stops[0].status, "failed")

    def test_every_recovery_keeps_to_its_limit(self):
        start = np.array([3.0, 2.0, 0.0])
        for kind in RECOVERIES.values():
            with self.subTest(kind=kind.name):
                recovery, pose, t = self.carry_out(kind, start)
                self.assertLessEqual(t, recovery.seconds + 0.11)
                # To find itself it goes as far as is free; here nothing tells it that it got anywhere.
                farthest = {BackOut: RecoverySettings().back_way, FindMyself: np.inf}.get(kind, 0.0)
                self.assertLessEqual(np.hypot(*(pose - start)[:2]), farthest + 0.05)
                self.assertIn("because a test", str(recovery))
        # Backing out ends before the wall behind; where there is no room behind, it goes ahead.
        for x, low, high in ((0.8, 0.36, 0.75), (0.42, 0.90, 0.95)):
            with self.subTest(x=x):
                _, pose, _ = self.carry_out(BackOut, np.array([x, 2.0, 0.0]))
                self.assertTrue(low < pose[0] < high, pose)

    def test_how_long_and_how_far_is_as_the_settings_say(self):
        start, wait, look, back = np.array([4.0, 3.0, 0.0]), RECOVERIES["wait"], RECOVERIES["look around"], BackOut
        for kind, key, value, seconds, metres in (
            (wait, "wait", 1.5, 1.5, 0.0),
            (look, "turn_rate", 0.4, 2.0 * np.pi / 0.4, 0.0),
            (back, "back_way", 1.0, 5.0, 1.0),
            (back, "back_speed", 0.1, 5.0, 0.5),
        ):
            with self.subTest(key=key):
                _, pose, t = self.carry_out(kind, start, settings=RecoverySettings.model_validate({key: value}))
                self.assertAlmostEqual(t, seconds, delta=0.3)
                self.assertAlmostEqual(float(np.hypot(*(pose - start)[:2])), metres, delta=0.05)
        with self.assertRaisesRegex(ValueError, "back_way = 4 is above longest_back_way = 3"):
            RecoverySettings(back_way=4.0)

    def test_it_comes_out_of_an_aisle_that_it_has_not_looked_into_until_it_can_turn(self):
        grid = room(8.0, 6.0)
        racks = grid.log_odds.copy()
        # An aisle of 1 m from x = 0.05 to 3 m about y = 3 m, and room to turn from there on.
        racks[10:50, 1:60] = racks[70:110, 1:60] = 3.0
        floor = price_floor(replace(grid, log_odds=racks), robot())
        recovery, pose, t = self.carry_out(
            BackOut, np.array([1.6, 3.0, 0.0]), floor, lambda velocity, _: velocity[0] < 0.0
        )
        # Its farthest corner lies 0.6 m from its origin.
        self.assertTrue(3.0 < pose[0] < 3.6, pose)
        self.assertLess(t, recovery.seconds)

    def carry_out(self, kind, start, floor=None, unseen=lambda *motion: False, settings=None):
        """Do as a recovery says, in a room if not told, until it is over; return it, where that leads, and the time."""
        floor, pose, t = floor or price_floor(room(), robot()), start, 0.0
        recovery = kind("a test", situation(t, pose, floor), robot(), settings)
        while (command := recovery.step(situation(t, pose, floor, unseen))) is not None:
            pose, t = compose(pose, arc(command.velocity, 0.1)), t + 0.1
        return recovery, pose, t


if __name__ == "__main__":
    unittest.main()
