import unittest

import numpy as np

from tests.support import new_folder, robot, room, short_run, site
from vinecompass import (
    LiveCosts,
    grid_from_drawing,
    grid_from_polygons,
    plan_path,
    price_floor,
    read_map,
    write_map,
)
from vinecompass.contact import Walking
from vinecompass.costs import LiveObstacles
from vinecompass.geometry import compose
from vinecompass.grids import Beams, MapRays, Paint, apply_edits
from vinecompass.odometry import odometry_track, straightened_beams, swept_scans
from vinecompass.settings import CostSettings

HERE = np.array([3.0, 2.0, 0.0])


def beams(*ends, hit=True, origin=(0.0, 0.0)):
    """Beams from one point in the body frame to some others."""
    ends = np.array(ends, np.float32).reshape(-1, 2)
    return Beams(np.broadcast_to(np.float32(origin), ends.shape).copy(), ends, np.full(len(ends), hit))


def same_prices(test, one, other):
    np.testing.assert_array_equal(one.forbidden, other.forbidden)
    np.testing.assert_allclose(one.prices, other.prices, rtol=1e-5)


class LiveObstaclesSeenAndForgotten(unittest.TestCase):
    def obstacles(self, reach=5.0):
        return LiveObstacles(room(12.0, 4.0), apart=0.25, memory=2.0, reach=reach)

    def test_only_points_away_from_walls_are_entered_and_not_for_long(self):
        seen = self.obstacles()
        first, last = seen.see(0.0, HERE, beams((1.01, 0.01), (0.01, 1.95), (90.0, 0.0)), "front")
        np.testing.assert_allclose(seen.points, [[4.025, 2.025]])
        self.assertEqual((first.tolist(), last.tolist()), ([40, 80], [41, 81]))
        seen.see(1.9, HERE, beams((-1.0, 0.01)), "front")
        self.assertEqual(len(seen.points), 2)
        first, last = seen.see(2.1, HERE, beams(), "front")
        np.testing.assert_allclose(seen.points, [[2.025, 2.025]])
        self.assertEqual((first.tolist(), last.tolist()), ([40, 80], [41, 81]), "where one was forgotten")
        first, last = seen.see(2.2, HERE, beams(), "front")
        self.assertEqual(first.tolist(), last.tolist(), "nothing changed")

    def test_beams_that_pass_erase_what_the_same_scanner_saw(self):
        seen = self.obstacles()
        seen.see(0.0, HERE, beams((1.0, 0.01)), "front")
        seen.see(0.1, HERE, beams((1.0, 0.01)), "rear")
        seen.see(0.2, HERE, beams((2.0, 0.02), hit=False), "front")
        self.assertEqual(len(seen.points), 1, "the other scanner still sees it")
        self.assertEqual(seen.why(4.0, 2.01), "seen by 'rear', forgotten in 1.9 s unless seen again")
        seen.see(0.3, HERE, beams((2.0, 0.02)), "rear")
        np.testing.assert_allclose(seen.points, [[5.025, 2.025]])

    def test_what_is_left_behind_is_remembered_until_it_is_old_or_seen_to_have_gone(self):
        seen = self.obstacles(reach=1.5)
        seen.see(0.0, HERE, beams((1.0, 0.01), (3.0, 0.01)), "front")
        np.testing.assert_allclose(seen.points, [[4.025, 2.025]], err_msg="the other is out of reach")
        seen.see(0.1, [7.0, 2.0, 0.0], beams((1.0, 0.01)), "front")
        np.testing.assert_allclose(seen.points, [[4.025, 2.025], [8.025, 2.025]])
        seen.see(0.2, HERE, beams((2.0, 0.005), hit=False), "front")
        self.assertEqual(len(seen.points), 2, "a beam only grazed it")
        seen.see(0.2, HERE, beams((2.0, 0.05), hit=False), "front")
        np.testing.assert_allclose(seen.points, [[8.025, 2.025]], err_msg="a beam passed")
        first, last = seen.see(2.2, HERE, beams(), "front")
        self.assertEqual((len(seen.points), first.tolist(), last.tolist()), (0, [40, 160], [41, 161]), "far behind")

    def test_a_coarse_scanner_that_stands_still_forgets_what_has_gone_and_keeps_what_stays(self):
        angles, rng = np.radians(np.arange(-60.0, 61.0)), np.random.default_rng(3)
        for leaves_after in (np.inf, 10.0):
            seen = LiveObstacles(room(12.0, 4.0), apart=0.25, memory=60.0, reach=6.0)
            # A cart 3.3 m ahead, its front 0.8 m wide: beams meet it every 6 cm, and cells measure 5 cm.
            for t in np.arange(0.0, 14.0, 0.16):
                there = (np.abs(3.3 * np.tan(angles)) < 0.4) & (t < leaves_after)
                ranges = np.where(there, 3.3 / np.cos(angles) + rng.normal(0.0, 0.01, len(angles)), 7.0)
                ends = np.float32(ranges[:, None] * np.stack([np.cos(angles), np.sin(angles)], axis=-1))
                seen.see(float(t), HERE, Beams(np.zeros_like(ends), ends, there), "front")
            with self.subTest(leaves_after=leaves_after):
                if np.isfinite(leaves_after):
                    self.assertEqual(len(seen.points), 0)
                else:
                    across = np.unique(np.round(seen.points[:, 1], 3))
                    self.assertEqual(len(across), 13, "as many as beams")

    def test_stamps_may_be_large_and_the_robot_off_the_map(self):
        seen, now = self.obstacles(), 1.8e9
        seen.see(now, HERE, beams((1.0, 0.01)), "front")
        seen.see(now + 1.9, HERE, beams(), "front")
        self.assertEqual(len(seen.points), 1)
        seen.see(now + 2.1, HERE, beams(), "front")
        self.assertEqual(len(seen.points), 0)
        for pose in ([-90.0, 2.0, 0.0], [3.0, 400.0, 1.0]):
            seen.see(now + 3.0, pose, beams((1.0, 0.01)), "front")
            self.assertEqual(len(seen.points), 0)

    def test_the_pose_and_the_grids_turn_are_heeded(self):
        grid = grid_from_drawing("\n".join(["." * 40] * 40), 0.1)
        for heading in (0.0, 2.0):
            seen = LiveObstacles(grid, apart=0.1, memory=1.0, reach=5.0)
            pose = np.array([*grid.points_of([[20, 20]])[0], heading])
            seen.see(0.0, pose, beams((1.0, 0.0)), "front")
            wanted = pose[:2] + [np.cos(heading), np.sin(heading)]
            self.assertLess(np.hypot(*(seen.points[0] - wanted)), 0.08)


class WhatIsGone(unittest.TestCase):
    """A wall across a room in the map, and in truth only its right third, with the body looking at it."""

    ACROSS = ((4.0, 0.0), (4.3, 0.0), (4.3, 4.0), (4.0, 4.0))

    def looked_at(self, grid, rest):
        costs = LiveCosts(grid, robot())
        walls = MapRays(grid_from_polygons([(0, 0), (8, 0), (8, 4), (0, 4)], rest, 0.05))
        lidar, opened = robot().scanner, []
        for scan in range(40):
            pose = np.array([1.0 + 0.03 * scan, 2.0, 0.0])
            ranges = walls.ranges([compose(pose, lidar.mount_pose)], lidar.beam_angles, farthest=lidar.farthest)[0]
            seen = straightened_beams(ranges, lidar, np.zeros((lidar.beams, 3)), clear_reach=6.0)
            opened.append(costs.open_what_is_gone(0.31 * scan, pose, seen))
        return costs, np.vstack(opened)

    def test_what_beams_pass_again_and_again_is_opened_and_what_stands_stays_closed(self):
        grid = grid_from_polygons([(0, 0), (8, 0), (8, 4), (0, 4)], [self.ACROSS], 0.05)
        right = [(4.0, 0.0), (4.3, 0.0), (4.3, 1.3), (4.0, 1.3)]
        costs, opened = self.looked_at(grid, [right])
        self.assertGreater(len(opened), 150)
        self.assertGreater(opened[:, 1].min(), 1.35)
        self.assertLess(opened[:, 0].max(), 4.36)
        self.assertFalse(costs.costmap.forbidden[tuple(grid.cells_at([[4.15, 2.4]])[0])])
        self.assertTrue(costs.costmap.forbidden[tuple(grid.cells_at([[4.15, 0.6]])[0])])
        self.assertTrue(plan_path(costs.costmap, robot(), [2.0, 2.4, 0.0], [6.5, 2.4, 0.0]).found)
        # What stands there now closes it.
        costs.see(20.0, [2.0, 2.4, 0.0], beams((2.15, 0.0)))
        self.assertTrue(costs.costmap.forbidden[tuple(grid.cells_at([[4.15, 2.4]])[0])])
        _, nothing = self.looked_at(grid, [self.ACROSS])
        self.assertEqual(len(nothing), 0)

    def test_what_a_person_closed_by_hand_stays_closed_whatever_beams_do(self):
        grid = grid_from_polygons([(0, 0), (8, 0), (8, 4), (0, 4)], [], 0.05)
        painted, _ = apply_edits(grid, [Paint(reading="occupied", polygon=self.ACROSS)], folder=new_folder())
        path = new_folder() / "map.png"
        write_map(painted, path)
        for each in (painted, read_map(path)):
            _, opened = self.looked_at(each, [])
            self.assertEqual(len(opened), 0)


class LiveCostsAgainstPricingAnew(unittest.TestCase):
    def test_along_a_drive_prices_are_those_of_the_whole_floor_priced_anew(self):
        run = short_run()
        grid = room(45.0, 30.0, 0.1)
        settings = CostSettings(obstacle_apart=0.2, obstacle_reach=4.0)
        live = LiveCosts(grid, robot(), zones=site().zones, settings=settings)
        changed = 0
        for number, (scan, motion) in enumerate(swept_scans(run, odometry_track(run))):
            sight = straightened_beams(scan.ranges, robot().scanner, motion.sweep, clear_reach=4.0)
            before = live.costmap.prices.copy()
            rows, columns = live.see(scan.t, run.truth.at([scan.t])[0], sight)
            outside = np.ones(grid.shape, bool)
            outside[rows, columns] = False
            np.testing.assert_array_equal(before[outside], live.costmap.prices[outside])
            changed += rows.stop > rows.start
            if number % 25 == 0:
                anew = price_floor(grid, robot(), zones=site().zones, obstacles=live.obstacles, settings=settings)
                same_prices(self, live.costmap, anew)
                near = anew.clearance < robot().body.inner_radius + settings.comfort
                np.testing.assert_allclose(live.costmap.clearance[near], anew.clearance[near], rtol=1e-5)
        self.assertGreater(changed, 50)

    def test_people_are_charged_where_they_are_now(self):
        live = LiveCosts(room(12.0, 6.0), robot())
        for people in ([Walking(4.0, 3.0, 1.0, 0.0)], [Walking(6.0, 3.0, 0.0, -1.0), Walking(9.0, 3.0)], []):
            live.meet(people)
            same_prices(self, live.costmap, price_floor(room(12.0, 6.0), robot(), people=people))
        rows, _ = live.meet([])
        self.assertEqual(rows.stop, rows.start, "nothing changed")

    def test_who_walks_is_no_obstacle_and_who_stands_is_one(self):
        for walk, seen in ((0.0, True), (0.8, False)):
            live = LiveCosts(room(12.0, 6.0), robot())
            live.see(0.0, [3.0, 3.0, np.pi / 2], beams([2.0, 0.1], [2.0, -1.5]), people=[Walking(3.0, 5.2, walk, 0.0)])
            points = live.obstacles.points
            self.assertEqual(np.any(np.hypot(*(points - [2.9, 5.0]).T) < 0.1), seen)
            self.assertTrue(np.any(np.hypot(*(points - [4.5, 5.0]).T) < 0.1), "what stands beside is seen all the same")
            live.see(2.1, [3.0, 3.0, np.pi / 2], beams())
            self.assertEqual(len(live.obstacles.points), 1, "who stood there may have walked away; a crate does not")
            self.assertTrue(live.costmap.forbidden[100, 90])
            rows, columns = live.forget()
            self.assertTrue(rows.start <= 100 < rows.stop and columns.start <= 90 < columns.stop)
            same_prices(self, live.costmap, price_floor(room(12.0, 6.0), robot()))


if __name__ == "__main__":
    unittest.main()
