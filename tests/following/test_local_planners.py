import itertools
import unittest

import numpy as np

from tests.support import altered_robot, assert_input_error, robot, room
from vinecompass import Command, PathFollower, TimeBand, VelocityWindow, Zone, price_floor
from vinecompass.costs import body_touches
from vinecompass.following import Course, SpeedProfile
from vinecompass.geometry import arc, compose, relative, resample_polyline, wrap_angle
from vinecompass.motion import limits_of, rolling_of
from vinecompass.robot import Robot
from vinecompass.settings import FollowingSettings, WindowSettings


def omni_robot():
    document = robot().model_dump(exclude_none=True)
    wheels = [
        {
            "name": f"wheel {i}",
            "position": [0.3 * np.cos(a), 0.3 * np.sin(a)],
            "direction_deg": float(np.degrees(a)) + 90.0,
        }
        for i, a in enumerate((0.5, 2.6, -1.57))
    ]
    document["drive"] = {k: v for k, v in document["drive"].items() if k != "track_width"} | {
        "kind": "omni",
        "wheels": wheels,
    }
    return Robot.model_validate(document)


def car_robot():
    return altered_robot(robot(), drive={"kind": "car", "wheelbase": 0.7, "turning_radius": 0.9})


def path_through(corners, last_heading=None, reverse=False):
    points = resample_polyline(np.array(corners, dtype=float), 0.1)
    ahead = np.diff(points, axis=0) * (-1.0 if reverse else 1.0)
    headings = np.arctan2(ahead[:, 1], ahead[:, 0])
    return np.column_stack([points, np.append(headings, headings[-1] if last_heading is None else last_heading)])


def follow(planner, poses, start, floor=None, most=900, off=(0.0, 0.0, 0.0), seed=1):
    """Let an ideal robot, whose estimate is `off`, follow a path; return poses, commands and local plans."""
    pose, command, rng = np.array(start, dtype=float), Command(), np.random.default_rng(seed)
    planner.follow(poses)
    track, plans = [pose], []
    while (planner.phase not in ("arrived", "missed") and len(plans) < most) or not plans:
        plans.append(planner.step(pose + rng.normal(0.0, off), command, 0.1, floor=floor))
        command = plans[-1].command
        pose = compose(pose, arc(command.velocity, 0.1))
        track.append(pose)
    return np.array(track), [plan.command for plan in plans], plans


class EveryPlanner(unittest.TestCase):
    kinds = (PathFollower, VelocityWindow, TimeBand)

    def test_it_arrives_position_first_and_then_heading_from_any_side_within_the_limits(self):
        drive = robot().drive
        for corners, start, last in (
            ([(0, 0), (5, 0)], [0, 0, 0], 1.0),
            ([(0, 0), (3, 0), (3, 3)], [0, 0, np.pi], -2.0),
            ([(0, 0), (0.2, 0)], [0, 0, np.pi / 2], 0.0),
            ([(0, 0), (4, 2), (6, -1), (2, -2)], [0.1, -0.1, 2.0], 3.0),
            ([(0, 0), (0, 0)], [0, 0, 0.5], 2.0),
        ):
            for kind in self.kinds:
                with self.subTest(corners=corners, kind=kind.__name__):
                    poses = (
                        path_through(corners, last) if corners[0] != corners[1] else np.array([start, [0.0, 0.0, last]])
                    )
                    planner = kind(robot())
                    track, commands, _ = follow(planner, poses, start)
                    self.assertEqual(planner.phase, "arrived")
                    self.assertLess(np.hypot(*(track[-1] - poses[-1])[:2]), 0.04)
                    self.assertLess(abs(wrap_angle(track[-1, 2] - last)), np.radians(1.5))
                    speeds, turns = np.array([(c.speed, c.turn_rate) for c in commands]).T
                    rims = np.abs(np.column_stack([speeds, 0 * speeds, turns]) @ rolling_of(drive).T).max()
                    self.assertLessEqual(rims, limits_of(drive).top_rim_speed + 1e-9)
                    self.assertLessEqual(np.abs(turns).max(), drive.top_turn_rate)
                    if len(speeds) > 1:
                        self.assertLessEqual(np.diff(speeds).max(), 0.1 * drive.acceleration + 1e-9)
                        self.assertGreaterEqual(np.diff(speeds).min(), -0.1 * drive.braking - 1e-9)
                        self.assertLessEqual(np.abs(np.diff(turns)).max(), 0.1 * drive.turn_acceleration + 1e-9)
                    # In the last metre it does not shake: it turns about twice at most.
                    late = turns[np.hypot(*(track[1:] - poses[-1])[:, :2].T) < 1.0]
                    signs = np.sign(late[np.abs(late) > 0.02])
                    self.assertLessEqual(np.count_nonzero(np.diff(signs)), 2)

    def test_on_the_last_metre_it_does_not_turn_about_for_what_the_estimate_is_off(self):
        grid = room(8.0, 8.0)
        grid.log_odds[20:140, 40:72] = grid.log_odds[20:140, 91:119] = 3.0
        floor = price_floor(grid, robot())
        for kind, reverse, seed in itertools.product(self.kinds, (False, True), range(3)):
            # Noise without memory is worse than an estimate's: backing the band between racks turns about 3 times.
            off, most = ((0.004, 0.004, 0.002), 3) if reverse and kind is TimeBand else ((0.005, 0.005, 0.003), 2)
            with self.subTest(kind=kind.__name__, reverse=reverse, seed=seed):
                path = path_through([(4.08, 1.6), (4.08, 6.0)], reverse=reverse)
                track, commands, _ = follow(
                    kind(robot()),
                    path,
                    [4.08, 1.6, -np.pi / 2 if reverse else np.pi / 2],
                    floor,
                    off=off,
                    seed=seed,
                )
                self.assertLess(np.hypot(*(track[-1] - path[-1])[:2]), 0.05)
                turns = np.array([command.turn_rate for command in commands])[track[1:, 1] > 5.0]
                self.assertLessEqual(np.count_nonzero(np.diff(np.sign(turns[np.abs(turns) > 0.03]))), most)

    def test_past_its_end_and_back_it_turns_where_the_plan_does(self):
        x = np.append(np.linspace(0.0, 3.3, 45), [3.225, 3.15])
        path = np.column_stack([x, 0.0 * x, np.where(np.arange(47) < 44, 0.0, np.pi)])
        for kind in self.kinds:
            with self.subTest(kind=kind.__name__):
                track, commands, _ = follow(kind(robot()), path, [0.0, 0.0, 0.0])
                self.assertAlmostEqual(track[:, 0].max(), 3.3, delta=0.02)
                self.assertLess(np.hypot(*(track[-1] - path[-1])[:2]), 0.03)
                self.assertGreaterEqual(min(command.speed for command in commands), 0.0)

    def test_beside_its_plan_it_comes_back_within_two_metres(self):
        path = path_through([(0, 0), (8, 0)])
        for kind in self.kinds:
            for aside in (-0.2, 0.2):
                with self.subTest(kind=kind.__name__, aside=aside):
                    track, _, _ = follow(kind(robot()), path, [1.0, aside, 0.0])
                    later = track[(track[:, 0] > 3.2) & (track[:, 0] < 7.9)]
                    self.assertLess(np.abs(later[:, 1]).max(), 0.04)

    def test_other_drives_and_reverse_legs_arrive_too(self):
        reverse = path_through([(0, 0), (-3, 0.3)], reverse=True)
        there_and_back = np.vstack(
            [path_through([(0, 0), (3, 0)]), path_through([(3, 0), (1, -0.3)], reverse=True)[1:]]
        )
        for name, vehicle, poses in (
            ("reverse", robot(), reverse),
            ("cusp", robot(), there_and_back),
            ("car", car_robot(), there_and_back),
            ("omni", omni_robot(), path_through([(0, 0), (3, 0), (3, 2)], 2.0)),
        ):
            for kind in self.kinds:
                with self.subTest(drive=name, kind=kind.__name__):
                    planner = kind(vehicle)
                    track, commands, plans = follow(planner, poses, poses[0])
                    self.assertEqual(planner.phase, "arrived", plans[-1].reason)
                    off = relative(poses[-1], track[-1])
                    self.assertLess(np.hypot(off[0], off[1]), 0.05)
                    self.assertLess(abs(off[2]), np.radians(3.5))
                    for command in commands:
                        self.assertLessEqual(
                            np.abs(rolling_of(vehicle.drive) @ command.velocity).max(),
                            limits_of(vehicle.drive).top_rim_speed + 1e-9,
                        )
                        if vehicle.drive.turning_radius:
                            self.assertLessEqual(abs(command.turn_rate) * 0.9, abs(command.speed) + 1e-9)

    def test_what_cannot_turn_on_the_spot_keeps_to_the_short_legs_of_a_manoeuvre(self):
        # Back in a curve to one side and the other, and ahead to where it stands 0.16 m beside its start.
        pose, path = np.zeros(3), [np.zeros(3)]
        for direction, curvature, steps in ((-1.0, 1.0, 5), (-1.0, -1.0, 5), (1.0, 0.0, 10)):
            for _ in range(steps):
                pose = compose(pose, arc([0.08 * direction, 0.0, 0.08 * direction * curvature], 1.0))
                path.append(pose)
        for kind in self.kinds:
            with self.subTest(kind=kind.__name__):
                planner = kind(car_robot())
                track, _, plans = follow(planner, np.array(path), [0.0, 0.0, 0.0])
                turned = next(i for i, plan in enumerate(plans) if plan.reason == "stops to change direction")
                np.testing.assert_allclose(track[turned], path[10], atol=0.06)
                self.assertEqual(planner.phase, "arrived")
                np.testing.assert_allclose(track[-1], path[-1], atol=0.04)

    def test_beside_walls_and_in_slow_zones_it_slows_down_and_pushed_away_it_closes_in_again(self):
        wide = room(8.0, 4.0)
        zone = Zone(name="z", kind="slow", speed=0.25, polygon=[(3, 0), (5, 0), (5, 4), (3, 4)])
        poses = path_through([(1.0, 2.0), (7.0, 2.0)])
        tight = room(8.0, 0.9)
        for kind in self.kinds:
            with self.subTest(kind=kind.__name__):
                fastest = {}
                for name, grid, zones in (("roomy", wide, []), ("slow", wide, [zone]), ("tight", tight, [])):
                    way = poses if name != "tight" else path_through([(1.0, 0.45), (7.0, 0.45)])
                    planner = kind(robot())
                    track, commands, plans = follow(planner, way, way[0], price_floor(grid, robot(), zones=zones))
                    self.assertEqual(planner.phase, "arrived")
                    inside = (track[1:, 0] > 3.1) & (track[1:, 0] < 4.9)
                    fastest[name] = max(c.speed for c, there in zip(commands, inside, strict=True) if there)
                    self.assertTrue(any("zone" in p.reason or "tight" in p.reason for p in plans) or name == "roomy")
                self.assertGreater(fastest["roomy"], 0.95)
                self.assertLess(fastest["slow"], 0.26)
                self.assertLess(fastest["tight"], 0.6)
                planner = kind(robot())
                track, _, _ = follow(planner, poses, poses[0])
                pose, command = track[-1] + [0.3, 0.2, 0.0], Command()
                for _ in range(300):
                    command = planner.step(pose, command, 0.1).command
                    pose = compose(pose, arc(command.velocity, 0.1))
                self.assertEqual(planner.phase, "arrived")
                self.assertLess(np.hypot(*(pose - poses[-1])[:2]), 0.04)

    def test_turning_on_the_spot_it_takes_the_short_way_to_another_plan(self):
        for planner in (VelocityWindow(robot()), PathFollower(robot())):
            with self.subTest(planner=type(planner).__name__):
                pose, command = np.zeros(3), Command()
                planner.follow(path_through([(0.0, 0.0), (-2.0, 0.8)]))
                while pose[2] < 1.8:
                    command = planner.step(pose, command, 0.1).command
                    pose = compose(pose, arc(command.velocity, 0.1))
                planner.follow(path_through([pose[:2], (2.0, 0.4)]))
                for _ in range(8):
                    command = planner.step(pose, command, 0.1).command
                self.assertLess(command.turn_rate, 0.0)

    def test_a_turn_that_is_held_up_is_tried_the_other_way_round_and_then_given_up(self):
        planner, turn_rates = PathFollower(robot()), []
        planner.follow(path_through([(0.0, 0.0), (-0.2, 2.0)]))
        while planner.phase != "missed":
            local = planner.step(np.zeros(3), Command(), 0.1)
            turn_rates.append(local.command.turn_rate)
            self.assertLess(len(turn_rates), 60, "it goes on for ever")
        self.assertTrue(turn_rates[0] > 0.0 > turn_rates[-2], "the short way first")
        self.assertIn("either way round", local.reason)
        planner.follow(path_through([(0.0, 0.0), (2.0, 0.1)]))
        self.assertGreater(planner.step(np.zeros(3), Command(), 0.1).command.speed, 0.0)

    def test_what_is_no_plan_or_no_pose_is_refused(self):
        for kind in self.kinds:
            planner = kind(robot())
            assert_input_error(self, lambda p=planner: p.follow(np.zeros((0, 3))), "poses", "no pose")
            assert_input_error(self, lambda p=planner: p.follow([[1.0, 2.0, 0.0]]), "poses", "(1, 3)", "two poses")
            assert_input_error(self, lambda p=planner: p.follow([[0, 0, 0], [1, np.nan, 0]]), "pose 1", "not finite")
            planner.follow([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0]])
            assert_input_error(self, lambda p=planner: p.step([0, np.nan, 0], Command(), 0.1), "pose", "finite")


class Window(unittest.TestCase):
    def test_what_it_shuts_out_would_touch_and_what_it_chooses_is_the_cheapest_and_free(self):
        grid = room(8.0, 4.0)
        grid.log_odds[36:46, 60:70] = 3.0
        floor = price_floor(grid, robot())
        planner = VelocityWindow(robot())
        planner.follow(path_through([(1.0, 2.0), (7.0, 2.0)]))
        plan = planner.step([1.9, 2.0, 0.0], Command(0.8, turn_rate=0.0), 0.1, floor=floor)
        considered = plan.considered
        self.assertEqual(len(considered.cost), len(considered.shut_out))
        np.testing.assert_allclose(
            np.sum(list(considered.terms.values()), axis=0)[np.isfinite(considered.cost)],
            considered.cost[np.isfinite(considered.cost)],
        )
        self.assertEqual(considered.chosen, int(np.argmin(considered.cost)))
        shut = [bool(reason) for reason in considered.shut_out]
        self.assertTrue(any(shut) and not all(shut))
        touched = body_touches(floor, robot(), considered.paths[considered.chosen])[:, 0] >= 0
        self.assertFalse(np.any(touched))
        # A rolled-out pose follows from its velocities: the first step is the mean of two speeds, along an arc.
        for k in (0, considered.chosen, len(shut) - 1):
            speed, _, turn = considered.velocities[k]
            step = np.clip(speed - 0.8, -0.11, 0.07), np.clip(turn, -0.24, 0.24)
            first = compose([1.9, 2.0, 0.0], arc([0.8 + step[0] / 2, 0.0, step[1] / 2], 0.1))
            np.testing.assert_allclose(considered.paths[k, 0], first, atol=2e-4)

    def test_a_box_in_the_way_of_the_plan_is_never_touched(self):
        grid = room(8.0, 4.0)
        grid.log_odds[36:46, 60:70] = 3.0
        floor = price_floor(grid, robot())
        track, _, _ = follow(
            VelocityWindow(robot()), path_through([(1.0, 2.0), (7.0, 2.0)]), [1.0, 2.0, 0.0], floor, 200
        )
        self.assertFalse(np.any(body_touches(floor, robot(), track)[:, 0] >= 0))

    def test_what_seems_to_touch_already_does_not_pin_it(self):
        floor = price_floor(room(8.0, 4.0), robot())
        side = np.abs(robot().body.polygon[:, 1]).max()
        walls = floor.grid.points_of(np.argwhere(floor.forbidden))
        low = walls[(np.abs(walls[:, 0] - 4.0) < 1.0) & (walls[:, 1] < 2.0), 1].max()
        # The outline reaches over the middles of the wall's cells, by less than the estimate may be off.
        start = [3.0, low + side - 0.01, 0.0]
        track, _, plans = follow(VelocityWindow(robot()), path_through([start[:2], (6.0, low + 0.8)]), start, floor, 60)
        self.assertGreater(track[-1, 0], 4.0)
        self.assertTrue(any(reason for reason in plans[0].considered.shut_out))


class WhatIsWeighed(unittest.TestCase):
    """The window's candidates against closed forms."""

    def considered(self, current, floor=None, x=1.0, horizon=8.0):
        planner = VelocityWindow(robot())
        planner.follow(path_through([(x, 2.0), (horizon, 2.0)]))
        return planner.step([x, 2.0, 0.0], current, 0.1, floor=floor).considered

    def test_smoothness_charges_each_change_of_the_turn_rate(self):
        current = Command(0.5, turn_rate=0.3)
        seen = self.considered(current)
        charged = WindowSettings().smoothness * np.abs(seen.velocities[:, 2] - 0.3)
        np.testing.assert_allclose(seen.terms["smoothness"], charged, atol=1e-9)
        self.assertGreater(np.ptp(charged), 0.01)

    def test_what_cannot_stop_in_time_is_shut_out_a_tenth_of_a_second_early(self):
        wide, drive = room(9.0, 4.0), robot().drive
        front = np.asarray(robot().body.polygon)[:, 0].max()
        for gap in (0.10, 0.16, 0.22, 0.30):
            x = 8.95 - front - gap
            seen = self.considered(Command(0.5), price_floor(wide, robot()), x, 14.0)
            straight = np.flatnonzero((np.abs(seen.velocities[:, 2]) < 1e-9) & (seen.velocities[:, 0] > 0.3))
            self.assertGreater(len(straight), 2)
            for k in straight:
                fastest = max(float(seen.velocities[k, 0]), 0.5)
                needs = 0.1 * fastest + fastest**2 / (2.0 * drive.braking)
                with self.subTest(gap=gap, speed=fastest):
                    if abs(needs - gap) > 0.06:
                        self.assertEqual(bool(seen.shut_by[k]), needs > gap)

    def test_curves_are_driven_as_slowly_as_sideways_acceleration_asks(self):
        for allowed in (0.05, 0.1, 0.2):
            settings = FollowingSettings(sideways_acceleration=allowed)
            for radius in (1.0, 2.5):
                angles = np.arange(0.0, 3.0, 0.05 / radius)
                circle = np.column_stack([radius * np.sin(angles), radius * (1.0 - np.cos(angles)), angles])
                profile = SpeedProfile(Course(circle), None, robot(), settings)
                with self.subTest(allowed=allowed, radius=radius):
                    # A curve is known over the next 0.8 m, and half the braking may still be spent until then.
                    least, most = allowed * radius, allowed * radius + 0.8 * robot().drive.braking
                    self.assertTrue(least <= profile.allowed**2 <= most, profile.allowed)

    def test_held_up_either_way_round_it_says_that_there_is_no_room_to_turn(self):
        for kind in (PathFollower, VelocityWindow, TimeBand):
            planner, said = kind(robot()), []
            planner.follow([[2.0, 2.0, 0.0], [2.0, 2.0, 2.0]])
            for _ in range(100):
                local = planner.step([2.0, 2.0, 0.0], Command(), 0.1)
                said.append((local.phase, local.reason, float(np.sign(local.command.turn_rate))))
            with self.subTest(kind=kind.__name__):
                held = next(i for i, each in enumerate(said) if each[1])
                self.assertEqual(said[held][:2], ("missed", "no room to turn on the spot, either way round"))
                self.assertEqual({each[2] for each in said[:held]}, {1.0, -1.0})


if __name__ == "__main__":
    unittest.main()
