import unittest

import numpy as np
import shapely

from tests.support import altered_robot, assert_input_error, robot, room
from vinecompass import Command, TimeBand, price_floor
from vinecompass.contact import Walking
from vinecompass.following import Band, Obstacle, draw_tight, first_guess
from vinecompass.geometry import arc, compose, relative, transform_points
from vinecompass.motion import limits_of
from vinecompass.settings import PeopleSettings

RESERVE = 0.97


def ramp_time(way, top, faster, slower):
    """The least time from standstill to standstill."""
    peak = min(top, np.sqrt(2.0 * way * faster * slower / (faster + slower)))
    return way / peak + 0.5 * peak * (1.0 / faster + 1.0 / slower)


def speeds_of(band: Band):
    turn = np.diff(band.poses[:, 2])
    middle = band.poses[:-1, 2] + 0.5 * turn
    steps = np.diff(band.poses[:, :2], axis=0)
    return (steps[:, 0] * np.cos(middle) + steps[:, 1] * np.sin(middle)) / band.times, turn / band.times


class TightBands(unittest.TestCase):
    def test_between_its_poses_it_goes_straight_on_and_beyond_its_ends_it_stands(self):
        rng = np.random.default_rng(8)
        band = Band(rng.normal(size=(6, 3)), rng.uniform(0.1, 0.5, 5), {})
        times = np.sort(rng.uniform(-0.5, band.duration + 0.8, 40))
        wanted = [np.interp(times, band.stamps, part) for part in band.poses.T]
        np.testing.assert_allclose(band.at(times), np.transpose(wanted), atol=1e-12)

    def test_straight_drives_and_turns_take_the_least_time_there_is(self):
        drive = robot().drive
        faster, slower = RESERVE * drive.acceleration, RESERVE * drive.braking
        for way in (0.5, 1.5, 3.0, 5.0):
            band = draw_tight(
                first_guess([[0, 0, 0.3], [way * np.cos(0.3), way * np.sin(0.3), 0.3]], robot()), robot(), rounds=10
            )
            least = ramp_time(way, RESERVE * drive.top_speed, faster, slower)
            with self.subTest(way=way):
                self.assertAlmostEqual(band.duration / least, 1.0, delta=0.06)
        for turn in (1.0, 3.0):
            band = draw_tight(first_guess([[0, 0, 0], [0, 0, turn]], robot()), robot(), rounds=10)
            alpha = RESERVE * drive.turn_acceleration
            least = ramp_time(turn, RESERVE * drive.top_turn_rate, alpha, alpha)
            with self.subTest(turn=turn):
                self.assertAlmostEqual(band.duration / least, 1.0, delta=0.08)

    def test_it_keeps_the_limits_and_does_not_slip_sideways(self):
        drive = robot().drive
        guess = first_guess([[0, 0, 0], [3, 0, 0], [3, 0, np.pi / 2], [3, 3, np.pi / 2]], robot())
        band = draw_tight(guess, robot(), rounds=10)
        speed, turn_rate = speeds_of(band)
        self.assertLess(np.abs(speed).max(), 1.02 * drive.top_speed)
        self.assertLess(np.abs(turn_rate).max(), 1.02 * drive.top_turn_rate)
        self.assertLess(
            (np.abs(speed) + 0.5 * drive.track_width * np.abs(turn_rate)).max(), 1.05 * limits_of(drive).top_rim_speed
        )
        self.assertLess(np.abs(np.diff(speed)).max() / band.times[0], 1.3 * drive.braking)
        chords = np.arctan2(*np.diff(band.poses[:, :2], axis=0).T[::-1])
        middle = 0.5 * (band.poses[1:, 2] + band.poses[:-1, 2])
        moving = np.abs(speed) > 0.1
        self.assertLess(np.abs(np.sin(chords - middle))[moving].max(), 0.12)
        np.testing.assert_allclose(band.poses[[0, -1]], guess.poses[[0, -1]], atol=1e-6)

    def test_points_lines_polygons_and_what_moves_are_kept_clear_of(self):
        for name, obstacles in (
            ("point", [Obstacle([[2.0, 0.1]], radius=0.2)]),
            ("line", [Obstacle([[1.8, 0.15], [2.2, 1.5]])]),
            ("polygon", [Obstacle([[1.8, -1.0], [2.2, -1.0], [2.2, -0.1], [1.8, -0.1]], closed=True)]),
            ("moving", [Obstacle([[5.0, 0.3]], radius=0.25, velocity=(-0.6, 0.0))]),
        ):
            with self.subTest(name=name):
                band = draw_tight(first_guess([[0, 0, 0], [4, 0, 0]], robot()), robot(), obstacles=obstacles, rounds=16)
                stamps = np.concatenate([[0.0], np.cumsum(band.times)])
                gaps = []
                for t, pose in zip(stamps, band.poses, strict=True):
                    body = shapely.Polygon(transform_points(pose, robot().body.polygon))
                    for each in obstacles:
                        corners = np.asarray(each.points) + t * np.asarray(each.velocity)
                        shape = (
                            shapely.Polygon(corners)
                            if each.closed
                            else shapely.LineString(corners)
                            if len(corners) > 1
                            else shapely.Point(corners[0])
                        )
                        gaps.append(body.distance(shape) - each.radius)
                self.assertGreater(min(gaps), 0.02)
                self.assertGreater(np.abs(band.poses[:, 1]).max(), 0.1)
        assert_input_error(self, lambda: Obstacle([[np.nan, 0.0]]), "obstacle", "nowhere")


class ThePlanner(unittest.TestCase):
    def test_where_the_body_just_fits_it_steers_to_the_middle_and_does_not_slide_there(self):
        grid = room(8.0, 4.0)
        grid.log_odds[:32, 20:140] = grid.log_odds[48:, 20:140] = 3.0
        planner = TimeBand(robot())
        planner.follow(np.column_stack([np.arange(2.0, 7.5, 0.1), np.full(55, 2.0), np.zeros(55)]))
        for _ in range(3):
            local = planner.step([2.5, 1.95, 0.0], Command(0.3), 0.1, floor=price_floor(grid, robot()))
            self.assertGreater(local.command.turn_rate, 0.04)
            self.assertLess(np.abs(relative(local.poses[1:], local.poses[:-1])[:, 1]).max(), 0.012)

    def test_a_slow_turner_backs_up_in_a_v_where_a_quick_one_turns_on_the_spot(self):
        for top_turn_rate, backs_up in ((0.2, True), (1.4, False)):
            turner = altered_robot(robot(), drive={"top_turn_rate": top_turn_rate, "reverse_speed": 0.3})
            planner = TimeBand(turner)
            planner.follow([[0.0, 0.0, 0.0], [0.0, 1.2, 0.0]])
            pose, command, speeds = np.zeros(3), Command(), []
            while planner.phase != "arrived" and len(speeds) < 400:
                command = planner.step(pose, command, 0.1).command
                pose = compose(pose, arc(command.velocity, 0.1))
                speeds.append(command.speed)
            with self.subTest(top_turn_rate=top_turn_rate):
                self.assertEqual(planner.phase, "arrived")
                self.assertLess(np.hypot(pose[0], pose[1] - 1.2), 0.04)
                self.assertEqual(-0.1 * np.sum(np.array(speeds)[np.array(speeds) < 0.0]) > 0.3, backs_up)

    def test_it_holds_bands_on_both_sides_of_a_post_and_returns_them(self):
        grid = room(10.0, 6.0)
        posts = np.array([[5.0, 3.0], [5.05, 3.0], [5.0, 3.05], [5.05, 3.05]])
        floor = price_floor(grid, robot(), obstacles=posts)
        planner = TimeBand(robot())
        x = np.arange(1.0, 9.0, 0.1)
        planner.follow(np.column_stack([x, np.full(len(x), 3.02), np.zeros(len(x))]))
        for _ in range(4):
            plan = planner.step([2.8, 3.02, 0.0], Command(0.5, turn_rate=0.0), 0.1, floor=floor)
        paths = plan.considered.paths
        self.assertGreaterEqual(len(paths), 2)
        beside = [path[np.argmin(np.abs(path[:, 0] - 5.0)), 1] for path in paths]
        self.assertTrue(min(beside) < 2.7 and max(beside) > 3.3, str(beside))
        self.assertEqual(plan.considered.chosen, int(np.argmin(plan.considered.cost)))
        self.assertFalse(plan.considered.shut_out[plan.considered.chosen])
        # A cycle later it keeps to its side, although both are nearly the same.
        side = np.sign(beside[plan.considered.chosen] - 3.0)
        again = planner.step([2.85, 3.02, 0.0], plan.command, 0.1, floor=floor)
        there = again.considered.paths[again.considered.chosen]
        self.assertEqual(np.sign(there[np.argmin(np.abs(there[:, 0] - 5.0)), 1] - 3.0), side)

    def test_it_gives_way_to_who_walks_towards_it(self):
        planner = TimeBand(robot())
        x = np.arange(0.0, 9.0, 0.1)
        planner.follow(np.column_stack([x, np.zeros(len(x)), np.zeros(len(x))]))
        plan = planner.step([0.0, 0.0, 0.0], Command(0.8, turn_rate=0.0), 0.1, people=[Walking(4.5, 0.0, -0.8, 0.0)])
        chosen = plan.considered.paths[plan.considered.chosen]
        self.assertLess(chosen[:, 1].min(), -0.5)
        self.assertEqual(plan.encounters[0].rule.prefer, "right")

    def test_it_keeps_more_room_from_people_who_are_granted_more(self):
        x, aside = np.arange(0.0, 9.0, 0.1), []
        for space in (0.3, 1.1, 2.0):
            planner = TimeBand(robot(), people=PeopleSettings(personal_space=space))
            planner.follow(np.column_stack([x, np.zeros(len(x)), np.zeros(len(x))]))
            for _ in range(12):
                plan = planner.step([0.0, 0.0, 0.0], Command(0.8), 0.1, people=[Walking(3.0, 0.2)])
            aside.append(np.abs(plan.considered.paths[plan.considered.chosen][:, 1]).max())
        self.assertGreater(aside[1], aside[0] + 0.15)
        self.assertGreater(aside[2], aside[1] + 0.15)


if __name__ == "__main__":
    unittest.main()
