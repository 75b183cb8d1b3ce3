import unittest
from itertools import pairwise

import numpy as np
import shapely

from tests.support import altered_robot, robot, room, short_mapping, short_run, site
from vinecompass import Grid, Robot
from vinecompass.geometry import compose, transform_points, wrap_angle
from vinecompass.grids import MapRays
from vinecompass.localization.place_search import PlaceSearch
from vinecompass.localization.scan_agreement import ScanJudge
from vinecompass.localization.second_opinion import second_opinion
from vinecompass.localization.telling_beams import evidence_between
from vinecompass.localization.telling_drive import telling_drive
from vinecompass.matching import PoseSearch
from vinecompass.odometry import deskewed_ends, motion_at
from vinecompass.simulation import cast_beams

GRID = short_mapping().grid
RAYS = MapRays(GRID)
JUDGE = ScanJudge(GRID, RAYS, near=0.18)
SEARCH = PlaceSearch(GRID, RAYS, JUDGE)


def beams_at(t):
    """Where the beams of the short run's scan at a time began and ended, and the true pose then."""
    run = short_run()
    i = int(np.searchsorted(run.scans.t, t))
    lidar, ranges = run.robot.scanner, run.scans.ranges[i]
    returned = (ranges >= lidar.nearest) & (ranges <= lidar.farthest)
    motion = motion_at(run.truth, run.scans.t[i], lidar)
    origins, ends = deskewed_ends(np.where(returned, ranges, 0.0), lidar, motion.sweep)
    return origins[returned], ends[returned], run.truth.at(run.scans.t[i : i + 1])[0]


def seen_from(segments, pose, a_robot: Robot):
    """What a noiseless scan from a pose sees of some segments."""
    lidar = a_robot.scanner
    poses = np.tile(pose, (lidar.beams, 1))
    ranges = cast_beams(np.asarray(segments, dtype=float), poses, lidar)
    returned = ranges <= lidar.farthest
    still = np.zeros((lidar.beams, 3))
    origins, ends = deskewed_ends(np.where(returned, ranges, 0.0), lidar, still)
    return origins[returned], ends[returned]


class Anywhere(unittest.TestCase):
    def test_one_scan_finds_the_true_place_on_the_whole_map(self):
        for t in (2.0, 6.0, 9.0, 12.0, 15.0, 18.0):
            origins, ends, true = beams_at(t)
            best = SEARCH.anywhere(origins, ends)[0]
            self.assertTrue(best.is_near(true, 0.08, np.radians(1.5)), f"{t}: {best}")
            self.assertGreater(best.agreement, 0.8)

    def test_all_good_places_are_those_that_trying_every_pose_finds(self):
        rng = np.random.default_rng(1)
        field = np.zeros((40, 50))
        spots = rng.integers([5, 5], [35, 45], size=(14, 2))
        field[spots[:, 0], spots[:, 1]] = rng.uniform(0.4, 1.0, len(spots))
        field = np.maximum(field, 0.5 * np.roll(field, 1, axis=0))
        floor = rng.random(field.shape) < 0.8
        points = np.array([[0.3, 0.1], [-0.5, 0.4], [0.0, -0.6], [0.7, 0.7]])
        headings = np.arange(-np.pi, np.pi, np.radians(30.0))
        found = PoseSearch(field, 0.1).find_all(points, headings=headings, floor=floor, least=0.1, share=0.6)
        grey = np.rint(255.0 * field)
        sums = np.full((len(headings), *field.shape), -1.0)
        for h, heading in enumerate(headings):
            cells = np.floor(0.5 + transform_points([0.0, 0.0, heading], points) / 0.1).astype(int)
            for row, column in np.argwhere(floor):
                at = cells[:, ::-1] + [row, column]
                on = np.all((at >= 0) & (at < field.shape), axis=1)
                sums[h, row, column] = grey[tuple(at[on].T)].sum()
        best = sums.max() / (255.0 * len(points))
        self.assertAlmostEqual(found[0].agreement, best)
        self.assertTrue(all(one.agreement > 0.6 * best for one in found))
        # Every pose that is good enough lies near one that was given and is no worse.
        for h, row, column in np.argwhere(sums > 0.6 * sums.max()):
            self.assertTrue(
                any(
                    abs(one.pose[0] - (column + 0.5) * 0.1) <= 2.0
                    and abs(one.pose[1] - (row + 0.5) * 0.1) <= 2.0
                    and abs(wrap_angle(one.pose[2] - headings[h])) < 0.8
                    for one in found
                )
            )

    def test_a_symmetric_room_gives_both_places_and_no_drive_tells_them_apart(self):
        grid = room()
        rays = MapRays(grid)
        search = PlaceSearch(grid, rays, ScanJudge(grid, rays, near=0.18))
        box = [[0.02, 0.02, 5.98, 0.02], [5.98, 0.02, 5.98, 3.98], [5.98, 3.98, 0.02, 3.98], [0.02, 3.98, 0.02, 0.02]]
        pose = np.array([2.0, 1.4, 0.5])
        places = search.anywhere(*seen_from(box, pose, robot()))
        opposite = np.array([4.0, 2.6, 0.5 - np.pi])
        self.assertEqual(len(places), 2)
        for one in (pose, opposite):
            self.assertTrue(any(place.is_near(one, 0.08, np.radians(2.0)) for place in places))
        self.assertIsNone(telling_drive(rays, robot(), places[0].pose, places[1].pose))

    def test_where_two_places_differ_ahead_it_says_to_drive_there(self):
        short_sighted = altered_robot(robot(), lidar={"farthest": 2.0})
        # A lane of 24 m; a solid stands 4 m ahead of one pose and nothing ahead of the other.
        log_odds = np.full((60, 480), -3.0, np.float32)
        log_odds[[0, -1]] = log_odds[:, [0, -1]] = 3.0
        log_odds[4:30, 160:180] = 3.0
        rays = MapRays(Grid(log_odds, 0.05))
        one, other = np.array([4.0, 2.3, 0.0]), np.array([14.0, 2.3, 0.0])
        drive = telling_drive(rays, short_sighted, one, other)
        # Ahead, or a little to the right, where the solid is.
        self.assertLess(abs(wrap_angle(drive.direction)), np.radians(23.0))
        self.assertRegex(str(drive), r"drive \d\.\d m (ahead|22 degrees to the right): \d+ % of the beams")
        self.assertTrue(1.5 <= drive.distance <= 4.0, drive)
        # The simulator, with walls in place of cells, agrees that scans differ there and not before.
        corners = shapely.box(8.0, 0.2, 9.0, 1.5).exterior.coords
        lane = np.vstack([[[0, 0.05, 24, 0.05], [0, 2.95, 24, 2.95]], [[*a, *b] for a, b in pairwise(corners)]])
        differing = []
        for way in (0.0, drive.distance):
            move = [way * np.cos(drive.direction), way * np.sin(drive.direction), 0.0]
            seen = [
                np.minimum(cast_beams(lane, np.tile(compose(pose, move), (433, 1)), short_sighted.scanner), 2.0)
                for pose in (one, other)
            ]
            differing.append(np.mean(np.abs(seen[0] - seen[1]) > 0.3))
        self.assertLess(differing[0], 0.02)
        self.assertAlmostEqual(differing[1], drive.differing, delta=0.06)


class EvidenceBetween(unittest.TestCase):
    def test_only_beams_of_which_two_places_expect_otherwise_are_evidence(self):
        rays, box = MapRays(room()), shapely.box(0.02, 0.02, 5.98, 3.98).exterior.coords
        walls = [[*a, *b] for a, b in pairwise(box)]
        one, opposite = np.array([2.0, 1.4, 0.5]), np.array([4.0, 2.6, 0.5 - np.pi])
        origins, ends = seen_from(walls, one, robot())
        # Turned by half about its middle the room is the same: no scan tells, however rough the ranges are.
        rough = ends * np.random.default_rng(0).normal(1.0, 0.03, (len(ends), 1))
        for seen in (ends, rough):
            self.assertLess(abs(evidence_between(rays, one, opposite, origins, seen)), 1e-9)
        # A metre beside, many beams tell; and what is new at both places tells nothing.
        beside = np.array([3.0, 1.4, 0.5])
        self.assertLess(evidence_between(rays, one, beside, origins, ends), -10.0)
        self.assertGreater(evidence_between(rays, beside, one, origins, ends), 10.0)
        self.assertLess(abs(evidence_between(rays, one, beside, origins, 0.1 * ends)), 1e-6)


class SecondOpinions(unittest.TestCase):
    def opinion(self, pose, t):
        origins, ends, _ = beams_at(t)
        return second_opinion(SEARCH, pose, origins, ends, reach=1.5, turn=np.radians(45.0), clearly_better=1.07)

    def test_a_turned_start_is_warned_of_and_a_rough_one_is_not(self):
        for seed, t in enumerate((2.0, 5.0, 9.0, 13.0, 17.0)):
            true = beams_at(t)[2]
            rough = true + [0.7 * np.cos(seed), 0.7 * np.sin(seed), np.radians(25.0 * (-1) ** seed)]
            self.assertEqual(self.opinion(rough, t).warning, "")
            self.assertEqual(self.opinion(rough, t).better, [])
            told = self.opinion(compose(rough, [0.0, 0.0, np.pi]), t)
            self.assertRegex(told.warning, r"fits \d+\.\d times better with the robot turned by 180 degrees")
            self.assertTrue(told.better[0].is_near(true, 0.1, np.radians(2.0)))
            self.assertGreater(told.better[0].fit, 1.07 * told.given.fit)

    def test_a_start_elsewhere_is_told_where_it_fits(self):
        true = beams_at(9.0)[2]
        near = self.opinion(compose(true, [2.2, 0.0, 0.0]), 9.0)
        self.assertRegex(near.warning, r"times better 2\.\d m from there")
        far = self.opinion(short_run().start, 15.0)
        self.assertRegex(far.warning, r"times better elsewhere, at .*: \d+ m from there")


class Agreement(unittest.TestCase):
    def test_the_share_is_that_of_the_beams_that_ended_on_what_was_mapped(self):
        # Two solids are set down where the floor was free when the map was made: the truth says which beams end there.
        origins, _, true = beams_at(9.0)
        places = [transform_points(true, [[2.0, 0.8]])[0], transform_points(true, [[2.5, -0.7]])[0]]
        boxes = [shapely.Point(place).buffer(0.35, quad_segs=3) for place in places]
        edges = [[*a, *b] for box in boxes for a, b in pairwise(box.exterior.coords)]
        origins, ends = seen_from(np.vstack([site().segments, edges]), true, robot())
        at = transform_points(true, ends)
        on_new = shapely.distance(shapely.union_all(boxes), shapely.points(at)) < 0.01
        judged = JUDGE.judge(true, origins, ends)
        known = judged.verdicts != 3
        self.assertGreater(on_new.sum(), 40)
        self.assertAlmostEqual(judged.share, 1.0 - on_new[known].mean(), delta=0.04)
        self.assertTrue(np.all(judged.verdicts[on_new] == 2))
        told = judged.disagreements[:2]
        for place, box in zip(sorted(told, key=lambda one: -one.beams), boxes, strict=True):
            nearest = min(np.hypot(*(place.place - p)) for p in places)
            self.assertLess(nearest, 0.5)
            self.assertGreater(place.beams, 10)
            self.assertIn("end on nothing mapped about", str(place))
            self.assertFalse(box.is_empty)

    def test_beams_through_a_wall_that_is_gone_pass_it(self):
        log_odds = room().log_odds.copy()
        log_odds[:, 60] = 3.0
        grid = Grid(log_odds, 0.05)
        judge = ScanJudge(grid, MapRays(grid), near=0.18)
        ends = np.array([[2.2, 0.0], [3.0, 0.3], [0.5, 1.0], [4.45, 0.0], [1.52, 0.0], [9.0, 0.0]])
        verdicts = judge.verdicts(np.array([1.5, 2.0, 0.0]), np.zeros((6, 2)), ends)
        # Two end behind it on free floor, one before it, one on the wall behind it, one on it, one off the map.
        self.assertEqual(verdicts.tolist(), [1, 1, 2, 0, 0, 3])


if __name__ == "__main__":
    unittest.main()
