import dataclasses
import unittest

import numpy as np
import shapely
import shapely.affinity

from tests.support import altered_robot, assert_input_error, edited, new_folder, robot, short_run, site
from vinecompass import Command, Simulator, grid_from_polygons, read_site, record_drive, site_from_map, write_site
from vinecompass.geometry import compose, inverse, transform_points
from vinecompass.simulation import Site, cast_beams


class BeamsAgainstShapely(unittest.TestCase):
    def test_walls_and_people(self):
        lidar, rng = robot().scanner, np.random.default_rng(15)
        people = np.array([[36.0, 22.0, 0.25], [34.0, 25.0, 0.3]])
        everything = shapely.union_all(
            [site().surfaces, *(shapely.Point(x, y).buffer(r, quad_segs=500).exterior for x, y, r in people)]
        )
        pose = np.array([36.5, 24.5, rng.uniform(-3.0, 3.0)])
        ranges = cast_beams(site().segments, np.repeat(pose[None], lidar.beams, axis=0), lidar, people=people)
        sensor = compose(pose, lidar.mount_pose)
        for beam in range(0, lidar.beams, 12):
            angle = sensor[2] + lidar.beam_angles[beam]
            ray = shapely.LineString([sensor[:2], sensor[:2] + 60.0 * np.array([np.cos(angle), np.sin(angle)])])
            wanted = shapely.Point(sensor[:2]).distance(ray & everything)
            if wanted < lidar.farthest:
                self.assertAlmostEqual(ranges[beam], wanted, delta=1e-3)
            else:
                self.assertGreater(ranges[beam], lidar.farthest)


class OfAMap(unittest.TestCase):
    def test_its_walls_are_where_the_map_has_them(self):
        # A room askew with a pillar in it and a wall at an angle, laid down turned.
        floor, pillar = [(0, 0), (7, 0), (7, 4.5), (2, 5)], [(3, 2), (3.6, 2.2), (3.4, 2.8)]
        drawn = grid_from_polygons(floor, [pillar], 0.05)
        grid = dataclasses.replace(drawn, corner=(4.0, -2.0), turn=0.4)
        made = site_from_map(
            grid, compose(grid.frame, [1.5, 1.0, 0.2]), stops={"there": compose(grid.frame, [5, 3, 0])}
        )
        corners = np.argwhere(grid.occupied)[:, ::-1]
        outline = shapely.union_all(shapely.box(*corners.T, *(corners + 1).T)).boundary
        walls = shapely.MultiLineString(
            [transform_points(inverse(grid.frame), np.array(wall.points)) / 0.05 for wall in made.walls]
        )
        self.assertLess(shapely.hausdorff_distance(outline, walls, densify=0.005), 0.52, "cells")
        self.assertLess(len(made.segments), 0.6 * shapely.get_num_coordinates(outline))
        path = new_folder() / "made.toml"
        write_site(made, path)
        self.assertEqual(read_site(path), made)
        for key, call in (
            ("start", lambda: site_from_map(grid, [4.0, -2.0, 0.0])),
            ("stop 'out'", lambda: site_from_map(grid, made.start_pose, stops={"out": [90.0, 0.0, 0.0]})),
            ("route 'by'", lambda: site_from_map(grid, made.start_pose, routes={"by": [made.start[:2], (4.0, -2.0)]})),
        ):
            assert_input_error(self, call, key, "free floor")
        clear = dataclasses.replace(grid, log_odds=np.minimum(grid.log_odds, -1.0))
        assert_input_error(self, lambda: site_from_map(clear, made.start_pose), "map", "nothing occupied")


class TheRecordedRun(unittest.TestCase):
    def test_ranges_scatter_more_with_distance_and_some_fail(self):
        run, lidar = short_run(), robot().scanner
        truth = np.array(
            [cast_beams(site().segments, run.truth.at(t + lidar.beam_delays), lidar) for t in run.scans.t[::4]]
        )
        ranges = run.scans.ranges[::4]
        error = ranges - np.where(np.isfinite(truth), truth, 0.0)
        unhidden = np.isfinite(error) & (np.abs(error) < 0.15)
        for near, far in ((0.5, 2.0), (3.0, 5.0), (8.0, 12.0)):
            chosen = unhidden & (truth > near) & (truth < far)
            wanted = np.sqrt(np.mean((lidar.range_noise + lidar.range_noise_per_metre * truth[chosen]) ** 2))
            self.assertAlmostEqual(error[chosen].std() / wanted, 1.0, delta=0.1)
            self.assertLess(abs(error[chosen].mean()), 0.002)
        self.assertAlmostEqual(np.isnan(ranges).mean(), lidar.dropout, delta=0.003)
        self.assertGreater(np.isposinf(ranges[truth > lidar.farthest + 0.2]).mean(), 0.9)

    def test_the_imu_has_its_bias_and_noise(self):
        run, imu = short_run(), robot().imu
        t = run.imu.t
        turned = np.unwrap(run.truth.at(t)[:, 2]) - np.unwrap(run.truth.at(t - 0.01)[:, 2])
        error = run.imu.turn_rate[5:] - turned[5:] / 0.01
        self.assertAlmostEqual(error.mean(), imu.turn_rate_bias, delta=4.0 * imu.turn_rate_noise / np.sqrt(len(error)))
        self.assertAlmostEqual(error.std() / imu.turn_rate_noise, 1.0, delta=0.1)

    def test_an_imu_off_the_axle_feels_the_turning_and_an_antenna_swings(self):
        made = altered_robot(
            robot(),
            imu={
                "mount": (0.3, 0.2, 90.0),
                "turn_rate_noise": 0.0,
                "acceleration_noise": 0.0,
                "turn_rate_bias": 0.0,
                "acceleration_bias": (0.0, 0.0),
                "turn_rate_scale": 1.1,
                "delay": 0.0,
            },
            position={"mount": (-0.3, 0.1), "noise": 1e-6, "rate": 5.0},
        )
        simulator = Simulator(site(), made, start=[25.5, 9.5, 0.0], seed=2)
        readings = [simulator.step(Command(0.5, turn_rate=0.6)) for _ in range(30)]
        t = np.concatenate([r.imu.t for r in readings])[120:]
        truth = np.concatenate([r.truth.poses for r in readings])
        velocities = np.concatenate([r.velocities for r in readings])
        np.testing.assert_allclose(
            np.concatenate([r.imu.turn_rate for r in readings])[120:], 1.1 * velocities[120:, 2], atol=0.02
        )
        # Where the IMU was, every 0.01 s: its second differences are its acceleration, turned into its own frame.
        sensor = compose(np.vstack([r.truth.poses for r in readings]), made.imu.mount_pose)
        second = np.diff(sensor[:, :2], n=2, axis=0) / 0.01**2
        heading = sensor[1:-1, 2]
        ahead = np.cos(heading) * second[:, 0] + np.sin(heading) * second[:, 1]
        left = np.cos(heading) * second[:, 1] - np.sin(heading) * second[:, 0]
        for name, wanted in (("acceleration_x", ahead), ("acceleration_y", left)):
            read = np.concatenate([getattr(r.imu, name) for r in readings])[120:]
            self.assertEqual(len(read), len(t))
            smooth = np.convolve(wanted[119:], np.full(25, 0.04), "same")[30:-30]
            np.testing.assert_allclose(np.convolve(read, np.full(25, 0.04), "same")[30:-31], smooth, atol=0.03)
        fixes = [r.position for r in readings]
        stamps = np.concatenate([fix.t for fix in fixes])
        np.testing.assert_allclose(stamps, 0.2 * np.arange(1, 16), atol=1e-9)
        antenna = compose(truth[(np.round(stamps / 0.01).astype(int)) - 1], [-0.3, 0.1, 0.0])
        np.testing.assert_allclose(np.concatenate([fix.x for fix in fixes]), antenna[:, 0], atol=1e-4)
        np.testing.assert_allclose(np.concatenate([fix.y for fix in fixes]), antenna[:, 1], atol=1e-4)

    def test_the_same_seed_gives_the_same_bytes_and_another_gives_others(self):
        again, other = (record_drive(site(), robot(), [(36.9, 24.6), (36.9, 23.0)], seed=seed) for seed in (7, 8))
        once_more = record_drive(site(), robot(), [(36.9, 24.6), (36.9, 23.0)], seed=7)
        self.assertEqual(again.scans.ranges.tobytes(), once_more.scans.ranges.tobytes())
        self.assertEqual(again.wheels.angles.tobytes(), once_more.wheels.angles.tobytes())
        self.assertNotEqual(again.scans.ranges.tobytes(), other.scans.ranges.tobytes())


class Motion(unittest.TestCase):
    def drive(self, start, commands, seed=1):
        simulator = Simulator(site(), robot(), start=start, seed=seed)
        return simulator, [simulator.step(command) for command in commands]

    def test_speeds_ramp_within_the_limits_and_wheels_agree_on_dry_floor(self):
        simulator, readings = self.drive([36.0, 22.4, 1.57], [Command(0.9)] * 20 + [Command()] * 15)
        speeds = np.concatenate([r.velocities[:, 0] for r in readings])
        drive = robot().drive
        self.assertLessEqual(np.diff(speeds).max(), 0.01 * drive.acceleration + 1e-9)
        self.assertGreaterEqual(np.diff(speeds).min(), -0.01 * drive.braking - 1e-9)
        rolled = readings[-1].wheels.angles[-1, 0] * drive.wheel_radius
        self.assertAlmostEqual(rolled, np.hypot(*(simulator.pose - [36.0, 22.4, 0.0])[:2]), delta=0.03)

    def test_wheels_slip_on_the_wet_patch_only(self):
        ratios = {}
        for name, start in (("wet", [38.6, 12.8, np.pi]), ("dry", [40.0, 18.4, np.pi])):
            _, readings = self.drive(start, [Command(0.9)] * 50)
            rolled = readings[-1].wheels.angles[-1].mean() * robot().drive.wheel_radius
            way = np.hypot(*np.diff(np.vstack([r.truth.poses for r in readings])[:, :2], axis=0).T).sum()
            ratios[name] = way / rolled
        self.assertAlmostEqual(ratios["dry"], 1.0, delta=0.02)
        self.assertLess(ratios["wet"], 0.85)

    def test_a_wall_stops_the_body_and_counts_as_a_contact(self):
        simulator, readings = self.drive([36.0, 24.6, np.pi], [Command(0.9)] * 70)
        self.assertTrue(readings[-1].contact)
        self.assertFalse(readings[0].contact)
        self.assertAlmostEqual(simulator.pose[0] - 0.56, 32.0, delta=0.02)
        body = shapely.Polygon(robot().body.polygon)
        self.assertFalse(
            shapely.affinity.translate(
                shapely.affinity.rotate(body, simulator.pose[2], origin=(0, 0), use_radians=True), *simulator.pose[:2]
            ).intersects(site().surfaces)
        )

    def test_people_walk_their_routes_and_wait_for_the_robot(self):
        simulator = Simulator(site(), robot(), seed=5)
        route = shapely.LineString(site().people[0].route)
        moved = 0.0
        for _ in range(100):
            before = simulator.people[0]
            simulator.step(Command())
            person = simulator.people[0]
            moved += np.hypot(person.x - before.x, person.y - before.y)
            self.assertLess(route.distance(shapely.Point(person.x, person.y)), 1e-6)
        self.assertAlmostEqual(moved / 10.0, site().people[0].speed, delta=0.15)
        start = np.array([20.0, 19.2, 0.0])
        blocked = Simulator(site(), robot(), start=start, seed=5)
        for _ in range(600):
            readings = blocked.step(Command())
            self.assertFalse(readings.contact)
            self.assertGreater(min(np.hypot(each.x - start[0], each.y - start[1]) for each in blocked.people), 0.9)

    def test_nobody_begins_on_the_robot(self):
        x, y, _ = site().start
        person = {"name": "worker", "route": [(x - 2.0, y), (x + 2.0, y)], "speed": 1.0}
        there = Site.model_validate(site().model_dump(by_alias=True, exclude_none=True) | {"person": [person]})
        begins = set()
        for seed in range(40):
            simulator = Simulator(there, robot(), seed=seed)
            (walking,) = simulator.people
            body = shapely.Polygon(transform_points(simulator.pose, np.array(robot().body.polygon)))
            self.assertGreater(body.distance(shapely.Point(walking.x, walking.y)), walking.radius)
            begins.add(round(walking.x, 3))
        self.assertGreater(len(begins), 25)

    def test_nobody_waits_for_ever(self):
        # At the end of its route a person has nowhere to turn back to, so it steps aside for a robot that stays.
        post = site().model_copy(
            update={
                "people": [site().people[1].model_copy(update={"route": [(39.5, 9.0), (39.5, 14.0)], "speed": 1.0})]
            }
        )
        body = shapely.affinity.translate(
            shapely.affinity.rotate(shapely.Polygon(robot().body.polygon), 0.6, origin=(0, 0), use_radians=True),
            38.6,
            13.6,
        )
        for seed in range(3):
            simulator = Simulator(post, robot(), start=[38.6, 13.6, 0.6], seed=seed)
            gaps = []
            for _ in range(300):
                self.assertFalse(simulator.step(Command()).contact)
                person = simulator.people[0]
                gaps.append(body.distance(shapely.Point(person.x, person.y)) - person.radius)
            self.assertGreater(gaps[-1], 0.5)


class SiteFile(unittest.TestCase):
    def test_what_is_wrong_is_named(self):
        for old, new, words in (
            ("grip = 0.35", "grip = 1.35", ["floor[0].grip", "1.35", "0 (wheels spin) to 1 (dry)"]),
            ("speed = 1.1", 'speed = "brisk"', ["person[0].speed", "'brisk'"]),
            ("start =", "begin =", ["begin", "not a known key", "perhaps"]),
            ('kind = "closed"', 'kind = "shut"', ["zone[0].kind", "'shut'"]),
        ):
            with self.subTest(new=new):
                path = edited("site.toml", old, new)
                assert_input_error(self, lambda path=path: read_site(path), "site.toml", *words)
        assert_input_error(self, lambda: site().find_stop("moon"), "stop", "'moon'", "dock, press")
        assert_input_error(
            self, lambda: Simulator(site(), robot(), start=[0.1, 5.0, 0.0], seed=1), "start", "[0.1, 5.0"
        )

    def test_grip_and_distances(self):
        self.assertEqual((site().grip_at(35.0, 12.0), site().grip_at(5.0, 18.0)), (0.35, 1.0))
        points = np.random.default_rng(16).uniform(0.0, 30.0, (50, 2))
        wanted = shapely.distance(shapely.points(points), site().surfaces)
        np.testing.assert_allclose(site().distances_to_surface(points), wanted, atol=1e-9)
        with self.assertRaises(ValueError):
            Site(name="void", start=(0.0, 0.0, 0.0))


if __name__ == "__main__":
    unittest.main()
