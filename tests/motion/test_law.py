import unittest

import numpy as np
from scipy.signal import lsim

from tests.support import altered_robot, robot, site
from vinecompass import Command, Simulator, limits_of
from vinecompass.motion import braked_on_its_curve, limit_command, reachable_velocities
from vinecompass.motion.kernels import along_chord, follow, speed_to_stop_within, stopping_distance, turned_a_little

LIMITS = limits_of(robot().drive)


class TheLawOfMotion(unittest.TestCase):
    def test_a_lagging_base_follows_every_part_as_a_first_order_system(self):
        limits, seconds, asked = LIMITS._replace(lag=0.2), 0.05, np.array([0.5, -0.3, 0.8])
        velocity, found = (0.1, 0.2, -0.4), [(0.1, 0.2, -0.4)]
        for _ in range(20):
            velocity = follow(limits, tuple(asked), velocity, seconds)
            found.append(velocity)
        t = seconds * np.arange(21)
        for part in range(3):
            _, wanted, _ = lsim(([1.0], [0.2, 1.0]), np.full(21, asked[part]), t, X0=[found[0][part] * 0.2])
            np.testing.assert_allclose(np.array(found)[:, part], wanted, atol=1e-9)
        self.assertEqual(follow(LIMITS._replace(lag=0.0), tuple(asked), velocity, seconds), tuple(asked))

    def test_a_simulated_base_with_a_delay_and_a_lag_does_what_it_was_told_a_while_ago(self):
        simulator = Simulator(site(), altered_robot(robot(), drive={"delay": 0.13, "lag": 0.08}), seed=1)
        speeds = np.concatenate([simulator.step(Command(0.3)).velocities[:, 0] for _ in range(12)])
        t = 0.01 * np.arange(1, len(speeds) + 1)
        ramp = np.clip(LIMITS.acceleration * (t - 0.13), 0.0, 0.3)
        _, wanted, _ = lsim(([1.0], [0.08, 1.0]), ramp, t)
        self.assertLess(np.abs(speeds[t <= 0.13]).max(), 1e-9)
        # Besides, dry wheels slip by some parts in a thousand.
        np.testing.assert_allclose(speeds, wanted, atol=0.012)

    def test_what_asks_too_much_of_a_wheel_lies_between_what_is_and_what_was_wished(self):
        rng, limits = np.random.default_rng(2), LIMITS._replace(acceleration=5.0, braking=5.0, turn_acceleration=9.0)
        bound = 0
        for _ in range(300):
            speed, turn_rate = rng.uniform(-0.6, 1.1), rng.uniform(-1.5, 1.5)
            current = limit_command(Command(speed, turn_rate=turn_rate), Command(), 9.0, limits)
            wish = Command(rng.uniform(0.3, 1.1), turn_rate=rng.uniform(-1.5, 1.5))
            new = limit_command(wish, current, 0.05, limits)
            aims = limit_command(wish, current, 9.0, limits)
            low, high = sorted((current.speed, aims.speed))
            self.assertTrue(low - 1e-6 <= new.speed <= high + 1e-6)
            self.assertLessEqual(abs(new.turn_rate - current.turn_rate), 0.05 * 9.0 + 1e-6)
            bound += np.abs(limits.rolling @ new.velocity).max() > limits.top_rim_speed * (1.0 - 1e-6)
        self.assertGreater(bound, 10)

    def test_a_chord_turned_by_the_mean_heading(self):
        x, y = along_chord(np.cos(0.4), np.sin(0.4), 0.3, 0.2)
        self.assertAlmostEqual(complex(x, y), (0.3 + 0.2j) * np.exp(0.4j))

    def test_a_heading_turned_a_little(self):
        for angle in (-0.1, -0.03, 0.0, 0.1):
            turned = turned_a_little(np.cos(0.7), np.sin(0.7), angle)
            np.testing.assert_allclose(turned, (np.cos(0.7 + angle), np.sin(0.7 + angle)), atol=3e-9)

    def test_braking_takes_the_way_that_the_closed_form_says(self):
        command, way, step = Command(1.0), 0.0, 0.002
        while command.speed > 0.0:
            before, command = command, limit_command(Command(-1.0), command, step, LIMITS)
            way += 0.5 * step * (before.speed + command.speed)
        self.assertAlmostEqual(way, 1.0 / (2.0 * LIMITS.braking), places=3)
        self.assertAlmostEqual(way, stopping_distance(1.0, LIMITS.braking), places=3)
        self.assertAlmostEqual(speed_to_stop_within(way, LIMITS.braking), 1.0, places=3)
        self.assertEqual(speed_to_stop_within(-1.0, LIMITS.braking), 0.0)

    def test_who_brakes_on_its_curve_keeps_the_curve_and_both_limits(self):
        for start in (Command(1.0, turn_rate=0.3), Command(-0.2, turn_rate=-1.2), Command(0.0, turn_rate=1.0)):
            with self.subTest(start=start):
                command, steps = start, 0
                while not command.standing:
                    slower = braked_on_its_curve(command, 0.01, LIMITS)
                    change = np.abs(slower.velocity - command.velocity)
                    self.assertLessEqual(change[0], 0.01 * LIMITS.braking + 1e-9)
                    self.assertLessEqual(change[2], 0.01 * LIMITS.turn_acceleration + 1e-9)
                    self.assertAlmostEqual(slower.turn_rate * start.speed, start.turn_rate * slower.speed)
                    command, steps = slower, steps + 1
                hardest = max(abs(start.speed) / LIMITS.braking, abs(start.turn_rate) / LIMITS.turn_acceleration)
                self.assertAlmostEqual(0.01 * steps, hardest, delta=0.011)

    def test_what_is_within_reach_is_what_the_law_reaches(self):
        for direction, current in ((1, Command(0.6, turn_rate=0.5)), (-1, Command(-0.2)), (1, Command(-0.2))):
            with self.subTest(direction=direction, current=current):
                found = reachable_velocities(
                    LIMITS, current, 0.2, direction=direction, top_speed=0.7, speeds=7, turn_rates=9
                )
                now = max(current.speed * direction, 0.0)
                self.assertAlmostEqual(np.abs(found[:, 0]).max(), min(now + 0.2 * LIMITS.acceleration, 0.7))
                self.assertAlmostEqual(np.abs(found[:, 0]).min(), max(now - 0.2 * LIMITS.braking, 0.0))
                self.assertTrue(np.any(found[:, 2] == 0.0))
                # Straight on is among them even if that takes longer.
                for velocity in found[found[:, 2] != 0.0]:
                    wish = Command(velocity[0], turn_rate=velocity[2])
                    standing = Command(direction * now, turn_rate=current.turn_rate)
                    reached = limit_command(wish, standing, 0.2, LIMITS)
                    np.testing.assert_allclose(reached.velocity, velocity, atol=1e-6)


if __name__ == "__main__":
    unittest.main()
