import unittest

import numpy as np
import shapely

from tests.support import altered_robot, assert_input_error, clockwise_robot, edited, robot
from vinecompass import Command, read_robot
from vinecompass.motion import limit_command, limits_of
from vinecompass.robot import Body


class RobotFile(unittest.TestCase):
    def test_what_is_wrong_is_named_with_key_value_and_expectation(self):
        cases = [
            ("top_speed = 1.1", 'top_speed = "fast"', ["drive.top_speed", "'fast'", "m/s"]),
            ("top_speed = 1.1", "top_speed = -1.0", ["drive.top_speed", "-1.0", "greater than"]),
            ("top_speed = 1.1", "top_sped = 1.1", ["drive.top_sped", "perhaps `top_speed`"]),
            ("top_speed = 1.1", "", ["drive.top_speed", "is missing", "m/s"]),
            (
                "top_speed = 1.1\nreverse_speed",
                "reverse",
                ["perhaps `reverse_speed`", "2 more: drive.top_speed, drive.rev"],
            ),
            ('kind = "differential"', 'kind = "omni"', ["a drive of kind omni has no track_width"]),
            ('kind = "differential"', 'kind = "car"', ["needs turning_radius: least radius a car can turn on, m"]),
            ("rate = 10.0", "rate = 10.0\nrange_nois = 0.1", ["lidar[0].range_nois", "perhaps `range_noise`"]),
            ("beams = 433", "beams = 433.5", ["lidar[0].beams", "433.5", "whole number"]),
            ("farthest = 16.0", "farthest = 0.01", ["lidar[0]", "farthest"]),
            ("last_beam_deg = 135.0", "last_beam_deg = -135.0", ["lidar[0]", "must differ"]),
            ('kind = "differential"', 'kind = "hover"', ["drive.kind", "'hover'"]),
            ("version = 1", "version = 9", ["version", "9"]),
            ('format = "vinecompass robot"', 'format = "other"', ["format", '"vinecompass robot"']),
            ("[body]", "[body]\nradius = 1.0", ["body", "either outline or radius"]),
            ("[drive]", "[drive", ["not TOML"]),
            ("[0.48, -0.31], ", "[0.48, 0.5], ", ["body", "cross itself"]),
        ]
        for old, new, words in cases:
            with self.subTest(new=new):
                path = edited("robot.toml", old, new)
                assert_input_error(self, lambda path=path: read_robot(path), str(path), *words)
        assert_input_error(self, lambda: read_robot("/nowhere/robot.toml"), "/nowhere/robot.toml", "no such file")

    def test_radii_of_the_body_agree_with_shapely(self):
        shape = shapely.Polygon(robot().body.polygon)
        self.assertAlmostEqual(robot().body.inner_radius, shape.exterior.distance(shapely.Point(0, 0)))
        self.assertAlmostEqual(robot().body.outer_radius, shapely.hausdorff_distance(shape, shapely.Point(0, 0)))
        disc = Body(radius=0.4)
        self.assertAlmostEqual(disc.inner_radius, 0.4)
        self.assertTrue(shapely.Polygon(disc.polygon).covers(shapely.Point(0, 0).buffer(0.399)))

    def test_beams_fan_out_evenly_and_fire_as_the_scanner_turns(self):
        lidar = robot().scanner
        np.testing.assert_allclose(lidar.beam_angles[[0, 216, -1]], np.radians([-135.0, 0.0, 135.0]), atol=1e-12)
        self.assertAlmostEqual(lidar.beam_delays[-1], 0.75 / lidar.rate)
        clockwise = clockwise_robot().scanner
        np.testing.assert_allclose(clockwise.beam_angles, -lidar.beam_angles, atol=1e-12)
        np.testing.assert_allclose(clockwise.beam_delays, lidar.beam_delays, atol=1e-12)
        # All at once, over the whole period, and the last of the list first.
        for seconds, first_and_last in ((0.0, (0.0, 0.0)), (0.1, (0.0, 0.1)), (-0.1, (0.1, 0.0))):
            delays = altered_robot(robot(), lidar={"sweep_time": seconds}).scanner.beam_delays
            np.testing.assert_allclose(delays, np.linspace(*first_and_last, lidar.beams), atol=1e-12)
        self.assertEqual(len(lidar.model_copy(update={"beams": 10}).beam_angles), 10)


class OverItsOwnBody(unittest.TestCase):
    def test_each_beam_leaves_the_body_where_walking_along_it_does(self):
        a_robot = robot()
        lidar, body = a_robot.scanner, shapely.Polygon(a_robot.body.polygon)
        x, y, heading = lidar.mount_pose
        found = a_robot.within_body(lidar)
        for beam in range(0, lidar.beams, 36):
            angle, way = heading + lidar.beam_angles[beam], 0.0
            while body.contains(shapely.Point(x + way * np.cos(angle), y + way * np.sin(angle))):
                way += 0.001
            self.assertAlmostEqual(found[beam], way, delta=0.0011)
        outside = altered_robot(a_robot, lidar={"mount": (0.9, 0.0, 0.0)})
        self.assertEqual(set(outside.within_body(outside.scanner)), {0.0})


class Limits(unittest.TestCase):
    def test_no_wish_whatever_breaks_a_limit(self):
        drive, rng = robot().drive, np.random.default_rng(4)
        wishes = [*rng.normal(scale=3.0, size=(500, 2)), (np.nan, 1.0), (np.inf, -np.inf), (0.0, 0.0)]
        current = Command()
        for speed, turn_rate in wishes:
            command = limit_command(Command(speed, turn_rate=turn_rate), current, 0.1, limits_of(drive))
            self.assertTrue(-drive.reverse_speed <= command.speed <= drive.top_speed)
            self.assertLessEqual(abs(command.turn_rate), drive.top_turn_rate)
            change = abs(command.speed) - abs(current.speed)
            self.assertLessEqual(change, 0.1 * drive.acceleration + 1e-12)
            self.assertGreaterEqual(change, -0.1 * drive.braking - 1e-12)
            self.assertGreaterEqual(command.speed * current.speed, 0.0)
            self.assertLessEqual(abs(command.turn_rate - current.turn_rate), 0.1 * drive.turn_acceleration + 1e-12)
            current = command


if __name__ == "__main__":
    unittest.main()
