import unittest

import numpy as np

from tests.support import assert_input_error, edited, new_folder, robot, room, site
from vinecompass import (
    Command,
    SimulatedLink,
    Simulator,
    Track,
    dead_reckon,
    demo_file,
    plan_path,
    price_floor,
    read_robot,
    read_run,
    write_run,
)
from vinecompass.geometry import arc, chain
from vinecompass.motion import body_velocity, steering_angle, wheel_speeds
from vinecompass.robot import Drive, Robot
from vinecompass.runs import Wheels

LIMITS = {
    "top_speed": 1.0,
    "reverse_speed": 0.5,
    "top_turn_rate": 1.0,
    "acceleration": 1.0,
    "braking": 1.0,
    "turn_acceleration": 2.0,
    "wheel_radius": 0.1,
}


def three_wheels():
    """Omni wheels at 0.3 m, each rolling across its arm."""
    angles = np.radians([60.0, 180.0, 300.0])
    return Drive(
        kind="omni",
        **LIMITS,
        wheel=[
            {
                "name": f"w{i}",
                "position": (0.3 * np.cos(a), 0.3 * np.sin(a)),
                "direction_deg": float(np.degrees(a)) + 90.0,
            }
            for i, a in enumerate(angles)
        ],
    )


def four_wheels():
    """Wheels that all roll ahead, on rollers set at 45 degrees in an X as seen from above."""
    return Drive(
        kind="omni",
        **LIMITS,
        wheel=[
            {"name": name, "position": (x, y), "direction_deg": 0.0, "roller_deg": roller}
            for name, x, y, roller in (
                ("front left", 0.3, 0.2, -45.0),
                ("front right", 0.3, -0.2, 45.0),
                ("rear left", -0.3, 0.2, 45.0),
                ("rear right", -0.3, -0.2, -45.0),
            )
        ],
    )


def car():
    return Drive(kind="car", **LIMITS, track_width=0.5, wheelbase=0.8, turning_radius=1.2)


class WheelSpeeds(unittest.TestCase):
    def test_there_and_back_for_every_drive(self):
        rng = np.random.default_rng(3)
        for drive in (robot().drive, three_wheels(), four_wheels(), car()):
            with self.subTest(kind=drive.kind, wheels=len(drive.wheel_names)):
                velocity = rng.uniform(-0.5, 0.5, (20, 3))
                if drive.kind != "omni":
                    velocity[:, 1] = 0.0
                np.testing.assert_allclose(body_velocity(drive, wheel_speeds(drive, velocity)), velocity, atol=1e-12)
        velocity = np.array([[0.5, 0.0, 0.25], [-0.5, 0.0, 0.25]])
        steering = steering_angle(car(), velocity)
        np.testing.assert_allclose(np.tan(steering), 0.8 * velocity[:, 2] / velocity[:, 0])
        np.testing.assert_allclose(body_velocity(car(), wheel_speeds(car(), velocity), steering), velocity, atol=1e-12)

    def test_closed_forms(self):
        # Turning on the spot, each omni wheel rolls its arm's length times the turn rate.
        np.testing.assert_allclose(wheel_speeds(three_wheels(), [0.0, 0.0, 1.0]), 0.3 / 0.1)
        # Sideways, wheels on rollers set in an X turn against each other, as fast as ahead.
        np.testing.assert_allclose(wheel_speeds(four_wheels(), [0.0, 0.4, 0.0]), [-4.0, 4.0, 4.0, -4.0], atol=1e-12)
        np.testing.assert_allclose(wheel_speeds(four_wheels(), [0.4, 0.0, 0.0]), 4.0)

    def test_dead_reckoning_follows_arcs_exactly_for_every_drive(self):
        t = np.linspace(0.0, 3.0, 4)
        for drive, velocity in (
            (three_wheels(), [0.3, 0.4, 0.5]),
            (four_wheels(), [0.3, -0.4, -0.5]),
            (car(), [0.6, 0.0, 0.4]),
        ):
            with self.subTest(kind=drive.kind):
                steering = np.full(4, steering_angle(drive, velocity)) if drive.kind == "car" else None
                wheels = Wheels(t, np.outer(t, wheel_speeds(drive, velocity)), steering)
                wanted = chain([1.0, 2.0, 0.3], np.repeat(arc(velocity, 1.0)[None], 3, axis=0))
                np.testing.assert_allclose(dead_reckon(wheels, drive, start=[1.0, 2.0, 0.3]).poses, wanted, atol=1e-12)


class RobotFile(unittest.TestCase):
    def test_each_kind_of_drive_needs_its_own_keys(self):
        for old, new, words in (
            ("track_width = 0.54\n", "", ["drive", "differential needs track_width"]),
            ('kind = "differential"', 'kind = "car"', ["drive", "car needs turning_radius"]),
            ('kind = "differential"', 'kind = "omni"', ["drive", "omni has no track_width"]),
            ('kind = "differential"', 'kind = "tracked"', ["drive.kind", "'tracked'", "omni"]),
            ("[wheels]", "[position]\nnoise = -1.0\n\n[wheels]", ["position.noise", "-1.0"]),
        ):
            with self.subTest(new=new):
                path = edited("robot.toml", old, new)
                assert_input_error(self, lambda path=path: read_robot(path), "robot.toml", *words)
        with self.assertRaisesRegex(ValueError, "push ahead, sideways and round"):
            Drive(
                kind="omni",
                **LIMITS,
                wheel=[{"name": str(i), "position": (float(i), 0.0), "direction_deg": 0.0} for i in range(3)],
            )

    def test_the_simulator_drives_every_kind_and_its_wheels_tell_the_way(self):
        document = robot().model_dump(exclude_none=True)
        for drive, told in (
            (four_wheels(), Command(0.3, sideways=0.2, turn_rate=0.3)),
            (car(), Command(0.5, turn_rate=0.3)),
            (car(), Command(-0.4, turn_rate=0.3)),
        ):
            vehicle = Robot.model_validate(document | {"drive": drive.model_dump(exclude_none=True)})
            simulator = Simulator(site(), vehicle, start=[36.0, 24.6, 0.0], seed=1)
            periods = [simulator.step(told) for _ in range(20)]
            truth = Track(*(np.concatenate([getattr(each.truth, part) for each in periods]) for part in ("t", "poses")))
            angles = np.concatenate([each.wheels.angles for each in periods])
            steered = None if drive.kind == "omni" else np.concatenate([each.wheels.steering for each in periods])
            t = np.concatenate([each.wheels.t for each in periods])
            track = dead_reckon(Wheels(t, angles, steered), drive, start=truth.at(t[:1])[0])
            with self.subTest(kind=drive.kind, told=told):
                self.assertGreater(track.length, 0.5)
                off = track.poses[-1] - truth.at(t[-1:])[0]
                self.assertLess(np.hypot(*off[:2]), 0.02)
                self.assertLess(abs(off[2]), 0.03)
                np.testing.assert_allclose(periods[-1].velocities[-1], told.velocity, atol=0.02)
                if steered is not None:
                    self.assertAlmostEqual(steered[-1], float(steering_angle(drive, told.velocity)), delta=0.02)

    def test_what_a_car_drives_is_a_run_that_can_be_read_and_reckoned_again(self):
        vehicle = read_robot(demo_file("forklift.toml"))
        link = SimulatedLink(site(), vehicle, seed=1)
        for _ in range(60):
            link.exchange(Command(0.5, turn_rate=0.2))
        run = read_run(write_run(link.run(), new_folder() / "run"))
        track = dead_reckon(run.wheels, vehicle.drive).moved_to(run.truth.poses[0])
        off = track.poses[-1] - run.truth.at(track.t[-1:])[0]
        self.assertLess(np.hypot(*off[:2]), 0.03)
        self.assertGreater(track.length, 1.0)

    def test_what_cannot_be_planned_says_so(self):
        document = robot().model_dump(exclude_none=True)
        omni = Robot.model_validate(document | {"drive": three_wheels().model_dump(exclude_none=True)})
        cart = Robot.model_validate(document | {"drive": car().model_dump(exclude_none=True)})
        costmap = price_floor(room(), cart)
        assert_input_error(
            self, lambda: plan_path(costmap, cart, [2, 2, 0], [4, 2, 0], method="a-star"), "method", "straight lines"
        )
        self.assertEqual(plan_path(price_floor(room(), omni), omni, [2, 2, 0], [4, 2, 0]).status, "found")


if __name__ == "__main__":
    unittest.main()
