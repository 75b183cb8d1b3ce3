import unittest

import numpy as np

from tests.support import altered_robot, assert_input_error, robot, wet_run
from vinecompass import Track, dead_reckon
from vinecompass.geometry import arc, compose, relative, wrap_angle
from vinecompass.localization import MotionNoise, learn_motion_noise
from vinecompass.localization.motion_model import LEAST_SPREAD, sample_increments, sample_velocities
from vinecompass.robot import Drive

NOISE = MotionNoise(distance=0.1, sideways=0.02, turn=0.05, turn_per_metre=0.03)
STEP = np.array([0.4, 0.1, 0.2])
COUNT = 20_000


def drive_of(kind):
    wheels = [
        {"name": str(k), "position": [0.2, y], "direction_deg": d}
        for k, (y, d) in enumerate([(0.2, 0.0), (-0.2, 0.0), (0.0, 90.0)])
    ]
    document = robot().drive.model_dump(exclude_none=True, exclude={"wheels"}) | {"kind": kind}
    if kind == "omni":
        document = {key: value for key, value in document.items() if key != "track_width"} | {"wheels": wheels}
    if kind == "car":
        document |= {"wheelbase": 0.8, "turning_radius": 1.5}
    return Drive.model_validate(document)


class Increments(unittest.TestCase):
    def test_particles_spread_as_the_noise_says_about_the_step(self):
        start = np.tile([3.0, -2.0, 3.0], (COUNT, 1))
        way = np.hypot(*STEP[:2])
        for kind, across in (("differential", 0.02), ("car", 0.02), ("omni", 0.1)):
            with self.subTest(drive=kind):
                moved = sample_increments(start, STEP, drive_of(kind), NOISE, np.random.default_rng(1))
                self.assertTrue(np.all(np.abs(moved[:, 2]) <= np.pi))
                off = relative(moved, compose(start[0], STEP))
                off[:, :2] = relative(moved, start)[:, :2] - STEP[:2]
                turn = np.sqrt(0.05**2 * 0.2 + 0.03**2 * way)
                wanted = np.array([0.1 * np.sqrt(way), across * np.sqrt(way), turn]) + LEAST_SPREAD
                # The standard deviation of a standard deviation is s / sqrt(2 N).
                np.testing.assert_allclose(off.std(axis=0), wanted, rtol=5.0 / np.sqrt(2 * COUNT))
                self.assertLess(np.abs(off.mean(axis=0) / wanted).max(), 5.0 / np.sqrt(COUNT))

    def test_where_the_odometry_tells_that_it_errs_more_that_is_taken(self):
        told = np.diag([0.3, 1e-4, 0.0]) ** 2
        rng = np.random.default_rng(4)
        moved = sample_increments(np.zeros((COUNT, 3)), np.array([1.0, 0.0, 0.0]), robot().drive, NOISE, rng, told=told)
        wanted = [0.3, 0.02 + LEAST_SPREAD, 0.03 + LEAST_SPREAD]
        np.testing.assert_allclose(moved.std(axis=0), wanted, rtol=5.0 / np.sqrt(2 * COUNT))

    def test_the_same_way_in_finer_steps_spreads_alike(self):
        rng, spreads = np.random.default_rng(2), []
        for pieces in (1, 20):
            moved = np.zeros((COUNT, 3))
            for _ in range(pieces):
                moved = sample_increments(moved, np.array([2.0 / pieces, 0, 0]), robot().drive, NOISE, rng)
            spreads.append(moved.std(axis=0)[[0, 2]])
        np.testing.assert_allclose(spreads[0], spreads[1], rtol=0.04)


class Velocities(unittest.TestCase):
    def test_without_noise_particles_follow_the_arc(self):
        none, rng = MotionNoise(0.0, 0.0, 0.0, 0.0), np.random.default_rng(3)
        for velocity in ([0.5, 0.0, 0.6], [-0.3, 0.0, 0.0], [0.4, 0.2, -1.0]):
            moved = sample_velocities(np.zeros((50, 3)), velocity, 2.0, drive_of("omni"), none, rng)
            self.assertLess(np.abs(moved - arc(velocity, 2.0)).max(), 5.0 * LEAST_SPREAD)

    def test_only_an_omni_drive_errs_sideways_and_a_car_does_not_err_by_turning(self):
        heading_spread = {}
        for kind in ("differential", "car", "omni"):
            rng = np.random.default_rng(4)
            moved = sample_velocities(np.zeros((COUNT, 3)), [0.5, 0.0, 0.0], 1.0, drive_of(kind), NOISE, rng)
            # Straight ahead the chord lies half the turn to the left, so what is left over is sideways motion.
            sideways = moved[:, 1] - 0.5 * moved[:, 0] * moved[:, 2]
            self.assertEqual(sideways.std() > 0.05, kind == "omni")
            turned = sample_velocities(np.zeros((COUNT, 3)), [0.1, 0.0, 1.0], 1.0, drive_of(kind), NOISE, rng)
            heading_spread[kind] = wrap_angle(turned[:, 2]).std()
        self.assertLess(heading_spread["car"], 0.5 * heading_spread["differential"])


class Learning(unittest.TestCase):
    def test_noise_put_in_is_found_again(self):
        rng, drive, count = np.random.default_rng(5), drive_of("omni"), 3000
        steps = np.column_stack([np.full(count, 0.5), np.zeros(count), 0.4 * np.sin(np.arange(count))])
        true, read = [np.zeros(3)], [np.zeros(3)]
        for step in steps:
            true.append(compose(true[-1], step))
            read.append(compose(read[-1], sample_increments(np.zeros((1, 3)), step, drive, NOISE, rng)[0]))
        t = np.arange(count + 1.0)
        learned = learn_motion_noise(Track(t, np.array(read)), Track(t, np.array(true)), every=0.49)
        for name, wanted in (("distance", 0.1), ("sideways", 0.1), ("turn", 0.05), ("turn_per_metre", 0.03)):
            self.assertAlmostEqual(getattr(learned, name), wanted, delta=0.12 * wanted, msg=name)

    def test_wheels_on_a_wet_floor_are_seen_to_err_more_than_on_a_dry_one(self):
        run = wet_run()
        wheels = dead_reckon(run.wheels, run.robot.drive)
        middle = (run.truth.t > 15.0) & (run.truth.t < run.truth.t[-1] - 40.0)
        wet = learn_motion_noise(wheels, Track(run.truth.t[middle], run.truth.poses[middle]))
        dry = learn_motion_noise(wheels, Track(run.truth.t[~middle][-3000:], run.truth.poses[~middle][-3000:]))
        self.assertGreater(wet.distance, 3.0 * dry.distance)
        with_turn = altered_robot(robot(), wheels={"slip": 0.0})
        self.assertEqual(with_turn.drive, robot().drive)

    def test_too_short_a_drive_teaches_nothing(self):
        t = np.arange(5.0)
        track = Track(t, np.column_stack([t, 0.0 * t, 0.0 * t]))
        assert_input_error(self, lambda: learn_motion_noise(track, track), "too short", "20 steps")


if __name__ == "__main__":
    unittest.main()
