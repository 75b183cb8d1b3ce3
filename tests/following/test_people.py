import itertools
import unittest

import numpy as np

from tests.support import assert_input_error, robot
from vinecompass import Command, VelocityWindow, grid_from_polygons, price_floor
from vinecompass.contact import Walking
from vinecompass.following import TimeBand, meet, relate
from vinecompass.following.people.rules import in_company
from vinecompass.geometry import arc, compose, distance_along
from vinecompass.settings import PeopleRule, PeopleSettings


def straight(y=0.0, length=14.0):
    x = np.arange(0.0, length, 0.1)
    return np.column_stack([x, np.full(len(x), y), np.zeros(len(x))])


class Relations(unittest.TestCase):
    def test_words_agree_with_how_distance_and_side_change(self):
        rng = np.random.default_rng(4)
        for _ in range(300):
            pose, place = rng.uniform(-3, 3, 3), rng.uniform(-3, 3, 2)
            own, walk = rng.uniform(-1.2, 1.2, (2, 2))
            relation = relate(pose, own, Walking(*place, *walk))
            line = place - pose[:2]
            for word, side, velocity, seen in (
                (relation.robot, relation.robot_side, own, line),
                (relation.person, relation.person_side, walk, -line),
            ):
                # The distance to where the other stands now, a moment later.
                change = (np.hypot(*(seen - 1e-6 * velocity)) - np.hypot(*seen)) / 1e-6
                expected = "approaching" if change < -0.1 else "receding" if change > 0.1 else "steady"
                self.assertEqual(word, expected)
                off = np.degrees(np.abs(np.arctan2(seen[0] * velocity[1] - seen[1] * velocity[0], seen @ velocity)))
                if np.hypot(*velocity) > 0.1 and min(off, 180.0 - off) > 8.01:
                    left = seen[0] * velocity[1] - seen[1] * velocity[0] > 0.0
                    self.assertEqual(side, "left" if left else "right")
                elif min(off, 180.0 - off) < 7.99:
                    self.assertEqual(side, "along")

    def test_situations_follow_each_other_and_do_not_flutter(self):
        settings = PeopleSettings()
        states, before = [], []
        for x in np.arange(9.0, -5.0, -0.1):
            # The robot drives along x at 1 m/s, the person comes 1.3 m to its left.
            before = meet(np.zeros(3), np.array([1.0, 0.0]), [Walking(x, 1.3, -1.0, 0.0)], settings, before=before)
            states.append(before[0].state)
        short = [state for state, _ in itertools.groupby(states)]
        self.assertEqual(short, ["none", "far", "near", "shoulder to shoulder", "behind", "none"])
        crossing, before = [], []
        for y in np.arange(-5.0, 5.0, 0.1):
            before = meet(np.zeros(3), np.zeros(2), [Walking(2.0, y, 0.0, 1.0)], settings, before=before)
            crossing.append(before[0].state)
        self.assertEqual([state for state, _ in itertools.groupby(crossing)], ["far", "crossing", "crossed", "none"])

    def test_no_rule_applies_to_who_will_not_come_near(self):
        beside = meet(np.zeros(3), np.array([1.0, 0.0]), [Walking(6.0, 4.0, -1.0, 0.0)], PeopleSettings())
        towards = meet(np.zeros(3), np.array([1.0, 0.0]), [Walking(6.0, 0.5, -1.0, 0.0)], PeopleSettings())
        self.assertEqual([beside[0].state, towards[0].state], ["none", "far"])

    def test_among_many_people_each_is_left_less_space(self):
        spaces = []
        for count in (1, 2, 4, 8):
            people = [Walking(2.0 + 0.3 * number, 1.0, 0.0, 0.0) for number in range(count)]
            spaces.append(in_company(np.zeros(3), [*people, Walking(30.0, 0.0, 0.0, 0.0)], PeopleSettings()))
        usual = PeopleSettings().personal_space
        np.testing.assert_allclose([s.personal_space for s in spaces], usual * np.array([1.0, 1.0, 0.5, 0.25]))

    def test_a_rule_stays_in_force_for_who_has_the_same_name_in_whatever_order(self):
        settings = PeopleSettings()

        def states(people, before=()):
            found = meet(np.zeros(3), np.array([1.0, 0.0]), people, settings, before=before)
            return [each.state for each in found], found

        bo = Walking(-3.0, 0.0, name="bo")
        first, before = states([Walking(4.4, 0.2, -1.0, 0.0, name="ada"), bo])
        later = [bo, Walking(4.6, 0.2, -1.0, 0.0, name="ada")]
        self.assertEqual([first, states(later)[0]], [["near", "none"], ["none", "far"]])
        self.assertEqual(states(later, before)[0], ["none", "near"])

    def test_people_at_nan_are_refused(self):
        assert_input_error(self, lambda: Walking(np.nan, 0.0), "x = nan", "finite")


class Rules(unittest.TestCase):
    def pass_by(self, planner, person, velocity, seconds=9.0, floor=None):
        """Drive past a person who walks on; return the track, the person's, and the local plans."""
        pose, command, place = np.zeros(3), Command(), np.array(person, dtype=float)
        planner.follow(straight())
        track, places, plans = [], [], []
        for _ in range(round(seconds / 0.1)):
            plans.append(planner.step(pose, command, 0.1, floor=floor, people=[Walking(*place, *velocity)]))
            command = plans[-1].command
            pose, place = compose(pose, arc(command.velocity, 0.1)), place + 0.1 * np.asarray(velocity)
            track.append(pose)
            places.append(place.copy())
        return np.array(track), np.array(places), plans

    def test_it_passes_on_the_agreed_side_and_on_the_other_at_another_site_or_where_only_there_is_room(self):
        usual = PeopleSettings()
        mirrored = [
            rule.model_copy(update={key: "left" for key in ("prefer", "keep_to") if getattr(rule, key)})
            for rule in usual.rules
        ]
        by_the_wall = price_floor(grid_from_polygons([(-2, -1.3), (16, -1.3), (16, 5), (-2, 5)], [], 0.05), robot())
        for settings, floor, sign in (
            (usual, None, -1.0),
            (PeopleSettings(rules=mirrored), None, 1.0),
            (usual, by_the_wall, 1.0),
        ):
            for kind in (VelocityWindow, TimeBand):
                with self.subTest(kind=kind.__name__, floor=floor is not None, sign=sign):
                    planner = kind(robot(), people=settings)
                    track, places, plans = self.pass_by(planner, [9.0, 0.0], [-0.9, 0.0], floor=floor)
                    beside = int(np.argmin(np.hypot(*(track[:, :2] - places).T)))
                    self.assertGreater(sign * (track[beside, 1] - places[beside, 1]), 0.7)
                    self.assertGreater(track[-1, 0], 4.0)
                    states = [plan.encounters[0].state for plan in plans if plan.encounters]
                    self.assertTrue({"far", "near"} <= set(states))

    def test_personal_space_is_kept_as_it_is_set(self):
        for kind in (VelocityWindow, TimeBand):
            with self.subTest(kind=kind.__name__):
                nearest = []
                for space in (0.4, 1.8):
                    settings = PeopleSettings(personal_space=space)
                    track, places, _ = self.pass_by(kind(robot(), people=settings), [6.0, 0.5], [0.0, 0.0])
                    nearest.append(np.hypot(*(track[:, :2] - places).T).min())
                self.assertGreater(nearest[1], nearest[0] + 0.2)

    def test_velocities_are_shut_out_before_they_are_weighed(self):
        planner = VelocityWindow(robot())
        planner.follow(straight())
        plan = planner.step([0.0, 0.0, 0.0], Command(0.8, turn_rate=0.0), 0.1, people=[Walking(3.5, 0.0, -1.0, 0.0)])
        reasons = plan.considered.shut_out
        self.assertIn("people: near", reasons)
        for velocity, cost, reason in zip(plan.considered.velocities, plan.considered.cost, reasons, strict=True):
            if reason == "people: near":
                self.assertEqual(cost, np.inf)
            elif abs(velocity[0]) > 0.1 and not reason:
                # What is left open turns right by half a second's turn of eight degrees or more.
                self.assertLess(0.5 * velocity[2], -np.radians(7.9))

    def test_people_are_charged_for_by_how_near_the_body_comes_within_six_seconds_or_stands_where_the_leg_ends(self):
        window, (middles, radius) = VelocityWindow(robot()), robot().body.covering_discs
        for person, left in (
            (Walking(5.0, 3.0, 0.0, -0.7), 8.9),
            (Walking(3.0, -4.2, 0.2, 0.9), 8.9),
            (Walking(-3.0, 0.6, 1.4, 0.0), 8.9),
            (Walking(3.4, 2.0, 0.0, -1.0), 1.5),
            (Walking(2.2, 3.0, 0.0, -0.7), 0.5),
        ):
            with self.subTest(person=str(person)):
                x = np.linspace(0.0, left, 90)
                window.follow(np.column_stack([x, 0.0 * x, 0.0 * x]))
                plan = window.step([0.0, 0.0, 0.0], Command(0.8), 0.1, people=[person])
                self.assertIsNone(plan.encounters[0].rule.prefer)
                charges, straight = [], np.arange(0.0, 5.0, 0.002)
                for path in plan.considered.paths:
                    way = distance_along(path)
                    last = min(int(np.searchsorted(way, left)), len(path) - 1)
                    speed = (path[last, :2] - path[last - 1, :2]) / 0.1
                    moves = max(left - way[last], 0.0) / max(np.hypot(*speed), 1e-6)
                    on = path[last] + np.append(speed, 0.0) * np.minimum(straight, moves)[:, None]
                    poses = np.vstack([path[np.minimum(np.arange(1, 10, 3), last)], on])
                    t = np.append(0.2 + 0.3 * np.arange(3), 1.0 + straight)[:, None]
                    place = np.array([person.x, person.y]) + t * [person.velocity_x, person.velocity_y]
                    cosine, sine = np.cos(poses[:, 2:]), np.sin(poses[:, 2:])
                    x = poses[:, :1] + cosine * middles[:, 0] - sine * middles[:, 1] - place[:, :1]
                    y = poses[:, 1:2] + sine * middles[:, 0] + cosine * middles[:, 1] - place[:, 1:]
                    gap = max(np.hypot(x, y).min() - radius, 0.0)
                    charges.append(PeopleSettings().charge * max(1.0 - gap / PeopleSettings().personal_space, 0.0))
                self.assertGreater(np.ptp(charges), 0.1)
                np.testing.assert_allclose(plan.considered.terms["people"], charges, atol=0.02)

    def test_it_waits_for_who_crosses_and_goes_on_behind(self):
        for kind in (VelocityWindow, TimeBand):
            with self.subTest(kind=kind.__name__):
                track, places, plans = self.pass_by(kind(robot()), [4.0, -3.2], [0.0, 0.8], 14.0)
                self.assertGreater(np.hypot(*(track[:, :2] - places).T).min(), 1.0)
                crossed = np.argmax(places[:, 1] > 0.0)
                self.assertLess(track[crossed, 0], 3.2)
                self.assertGreater(track[-1, 0], 6.0)
                self.assertTrue(any("people: crossing" in plan.reason for plan in plans))

    def test_rules_are_data_and_mistakes_in_them_are_named(self):
        from tests.support import new_folder
        from vinecompass import read_settings

        path = new_folder() / "settings.toml"
        head = 'format = "vinecompass settings"\nversion = 1\n'
        path.write_text(head + '[[people.rule]]\nname = "near"\nkeep_to = "left"\nfarthest = 3.0\n')
        self.assertEqual(read_settings(path).people.rules, [PeopleRule(name="near", keep_to="left", farthest=3.0)])
        path.write_text(head + '[[people.rule]]\nname = "near"\nkeep_to = "up"\n')
        assert_input_error(self, lambda: read_settings(path), "people.rule[0].keep_to", "up", "left")


if __name__ == "__main__":
    unittest.main()
