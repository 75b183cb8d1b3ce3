import unittest

import numpy as np

from tests.support import robot, site
from vinecompass.geometry import arc, compose, oriented_points, wrap_angle
from vinecompass.matching import PoseSearch, SearchWindow, WallGrid, match_scan
from vinecompass.odometry import deskewed_hits
from vinecompass.simulation import cast_beams

POSE = np.array([36.0, 24.6, 0.2])
STILL = np.zeros((433, 3))


def noisy_points(sweep, seed, straightened_by=STILL):
    """What a scan from `POSE` with that motion during its sweep hits, straightened by some (other) motion."""
    lidar, rng = robot().scanner, np.random.default_rng(seed)
    ranges = cast_beams(site().segments, compose(POSE, sweep), lidar)
    ranges = np.where(ranges < lidar.farthest, ranges + rng.normal(scale=0.015, size=lidar.beams), np.inf)
    returned = np.isfinite(ranges)
    return deskewed_hits(ranges, lidar, straightened_by), lidar.beam_delays[returned]


class AgainstTheTruePose(unittest.TestCase):
    @classmethod
    def setUpClass(cls):
        turn = np.array([[np.cos(POSE[2]), np.sin(POSE[2])], [-np.sin(POSE[2]), np.cos(POSE[2])]])
        scans = [noisy_points(STILL, seed)[0] @ turn + POSE[:2] for seed in range(12)]
        cls.grid = WallGrid.of_points(np.concatenate(scans), cell_size=0.05, spread=0.09)

    def match(self, points, delays, off, doubt_sweep=False):
        window = SearchWindow(0.3, np.radians(8.0), np.radians(0.5))
        return match_scan(
            points, delays, self.grid, compose(POSE, off), window=window, prior_points=1.0, doubt_sweep=doubt_sweep
        )

    def test_offsets_inside_the_window_are_found_to_millimetres(self):
        errors = []
        for seed, off in enumerate(([0.0, 0.0, 0.0], [0.2, -0.15, 0.1], [-0.25, 0.2, -0.12], [0.1, 0.25, 0.05])):
            points, delays = noisy_points(STILL, 100 + seed)
            match = self.match(points, delays, off)
            errors.append(match.pose - POSE)
            self.assertLess(np.abs(errors[-1]).max(), 5.0 * np.sqrt(np.diag(match.covariance)).max())
            self.assertGreater(match.agreement, 0.9)
            self.assertGreater(match.matched_share, 0.8)
        self.assertLess(np.abs(errors)[:, :2].max(), 0.01)
        self.assertLess(np.degrees(np.abs(wrap_angle(np.array(errors)[:, 2])).max()), 0.12)

    def test_a_scan_bent_by_slip_is_straightened_and_its_motion_found(self):
        lidar = robot().scanner
        sweep = arc([0.5, 0.0, -0.4], lidar.beam_delays)
        points, delays = noisy_points(sweep, 200)
        bent = self.match(points, delays, [0.03, 0.0, 0.02])
        straight = self.match(points, delays, [0.03, 0.0, 0.02], doubt_sweep=True)
        self.assertLess(np.hypot(*(straight.pose - POSE)[:2]), 0.012)
        self.assertLess(abs(np.degrees(straight.pose[2] - POSE[2])), 0.15)
        self.assertGreater(abs(np.degrees(bent.pose[2] - POSE[2])), 0.4)
        self.assertAlmostEqual(straight.turn_rate_error, -0.4, delta=0.08)
        self.assertAlmostEqual(straight.speed_error, 0.5, delta=0.2)

    def test_where_nothing_is_mapped_the_guess_stands(self):
        points, delays = noisy_points(STILL, 300)
        match = self.match(points, delays, [200.0, 0.0, 0.0])
        np.testing.assert_allclose(match.pose, compose(POSE, [200.0, 0.0, 0.0]), atol=0.35)
        self.assertEqual((match.matched_share, match.agreement), (0.0, 0.0))


class WhatIsNotSeen(unittest.TestCase):
    """Two long parallel walls: nothing there shows the position along them."""

    def aisle(self, *things):
        x = np.arange(-9.0, 9.0, 0.03)
        walls = [np.column_stack([x, np.full_like(x, y)]) for y in (-1.0, 1.0)]
        return np.concatenate([*walls, *things]) + np.random.default_rng(1).normal(scale=0.005, size=(1, 2))

    def match(self, mapped, seen, guess):
        grid = WallGrid.of_points(mapped, cell_size=0.05, spread=0.08)
        window = SearchWindow(0.12, np.radians(5.0), np.radians(1.0))
        return match_scan(seen, np.zeros(len(seen)), grid, guess, window=window, prior_points=1.0, doubt_sweep=False)

    def test_along_a_plain_aisle_the_guess_stands_and_the_direction_is_named(self):
        match = self.match(self.aisle(), self.aisle()[::2], [0.1, 0.05, 0.02])
        np.testing.assert_allclose(match.pose, [0.1, 0.0, 0.0], atol=0.02)
        self.assertGreater(match.unseen[0, 0], 0.8)
        self.assertLess(match.unseen[1, 1], 0.05)
        self.assertGreater(match.covariance[0, 0], 100.0 * match.covariance[1, 1])

    def test_one_person_walking_there_is_not_followed_but_a_row_of_pillars_is(self):
        across = np.arange(-0.15, 0.15, 0.01)
        person = np.column_stack([np.full_like(across, 3.0), across])
        moved = self.match(self.aisle(person), self.aisle(person + [0.1, 0.0])[::2], [0.0, 0.0, 0.0])
        self.assertLess(abs(moved.pose[0]), 0.04)
        pillars = [person + [x, y] for x in (-9.0, -6.0, 0.0, 3.0) for y in (-0.8, 0.8)]
        seen = self.aisle(*pillars) - [0.1, 0.0]
        self.assertAlmostEqual(self.match(self.aisle(*pillars), seen[::2], [0.0, 0.0, 0.0]).pose[0], 0.1, delta=0.02)


class RoundPillars(unittest.TestCase):
    def test_they_do_not_draw_the_scan_towards_them(self):
        """Twelve pillars before the scanner and none behind: a line through each one's points would cut through it."""
        rng = np.random.default_rng(3)
        middles = np.array([(x, y) for x in (3.0, 5.5, 8.0, 10.5) for y in (-3.0, 0.5, 3.0)])
        middles += rng.normal(scale=0.2, size=middles.shape)
        ways = [self.seen_from([x, 0.0], middles, rng) for x in np.arange(-4.0, 0.0, 0.25)]
        grid = WallGrid.of_points(np.concatenate(ways), cell_size=0.05, spread=0.08)
        window = SearchWindow(0.05, np.radians(1.0), np.radians(0.5))
        poses = []
        for y in np.arange(-0.5, 0.55, 0.1):
            points = self.seen_from([0.0, y], middles, rng) - [0.0, y]
            guess = [0.0, y, 0.0]
            match = match_scan(
                points, np.zeros(len(points)), grid, guess, window=window, prior_points=0.0, doubt_sweep=False
            )
            poses.append(match.pose - guess)
        mean, of_mean = np.mean(poses, axis=0), np.std(poses, axis=0) / np.sqrt(len(poses))
        self.assertTrue(np.all(np.abs(mean) < [0.004, 0.003, 0.0006] + 2.0 * of_mean), (mean, of_mean))

    def seen_from(self, eye, middles, rng, radius=0.25):
        """Where beams end on circles: the nearer root of a quadratic equation, with 1 cm of noise."""
        angles = np.radians(np.arange(-60.0, 60.0, 0.25))
        directions = np.column_stack([np.cos(angles), np.sin(angles)])
        along = directions @ (middles - eye).T
        under_root = along**2 - np.sum((middles - eye) ** 2, axis=1) + radius**2
        ranges = np.where(under_root > 0.0, along - np.sqrt(np.maximum(under_root, 0.0)), np.inf).min(axis=1)
        hit = np.isfinite(ranges)
        ranges = ranges[hit] + rng.normal(scale=0.01, size=hit.sum())
        return eye + ranges[:, None] * directions[hit]


class TheOtherSideOfAWall(unittest.TestCase):
    """Two rooms with a wall of 0.12 m between them; beside it lie two walls along which nothing shows."""

    def seen_from(self, x):
        y = np.arange(-1.5, 1.5, 0.03)
        along = np.arange(min(x, 0.06) - 0.3, max(x, 0.06) + 0.3, 0.03)
        parts = [np.column_stack([np.full_like(y, 0.0 if x < 0.0 else 0.12), y])]
        parts += [np.column_stack([along, np.full_like(along, side)]) for side in (-1.5, 1.5)]
        return np.concatenate([oriented_points(part, np.tile([x, 0.0], (len(part), 1))) for part in parts])

    def test_it_is_not_taken_for_this_one_but_this_one_is_from_any_angle(self):
        window = SearchWindow(0.05, np.radians(1.0), np.radians(0.5))
        for mapped, off in ((-2.0, 0.0), (1.2, 0.05)):
            grid = WallGrid.of_points(self.seen_from(mapped), cell_size=0.05, spread=0.08)
            scan = self.seen_from(2.5)
            scan[:, 0] -= 2.5
            for points, told in ((scan, True), (scan[:, :2], False)):
                match = match_scan(
                    points,
                    np.zeros(len(points)),
                    grid,
                    [2.5 + off, 0.0, 0.0],
                    window=window,
                    prior_points=1.0,
                    doubt_sweep=False,
                )
                with self.subTest(mapped=mapped, told=told):
                    # Not told on which side points lie, the scan is drawn to the wrong one.
                    wrong = mapped < 0.0 and not told
                    self.assertEqual(abs(match.pose[0] - 2.5) > 0.05, wrong)
                    self.assertLess(abs(match.pose[1]), 0.01)


class SearchOfWindows(unittest.TestCase):
    def test_branch_and_bound_finds_what_trying_everything_finds(self):
        rng = np.random.default_rng(3)
        for size in ((60, 80), (33, 65), (90, 40)):
            field, points = rng.random(size) ** 6, rng.uniform(-1.5, 1.5, (40, 2))
            headings, low, high = np.linspace(-0.3, 0.4, 8), np.array([0.35, 1.25]), np.array([6.15, 9.05])
            whole = np.rint(255.0 * field)
            best = 0.0
            for heading in headings:
                cosine, sine = np.cos(heading), np.sin(heading)
                columns = np.floor(0.5 + 10.0 * (cosine * points[:, 0] - sine * points[:, 1])).astype(int)
                rows = np.floor(0.5 + 10.0 * (sine * points[:, 0] + cosine * points[:, 1])).astype(int)
                padded = np.pad(whole, 150)
                for x in range(-7, 52):
                    for y in range(-8, 71):
                        best = max(best, padded[rows + y + 150, columns + x + 150].mean() / 255.0)
            found = PoseSearch(field, 0.1, (1.0, 2.0)).find(points, headings=headings, low=low, high=high)
            self.assertAlmostEqual(found.agreement, best, places=9)
            other = PoseSearch(field, 0.1, (1.0, 2.0)).find(
                points, headings=headings, low=low, high=high, unlike=found, apart=(0.4, 0.15)
            )
            self.assertLessEqual(other.agreement, found.agreement)
            apart = np.abs(other.pose - found.pose)
            self.assertTrue(max(apart[:2]) > 0.4 or apart[2] > 0.15)

    def test_nothing_above_the_bar_is_no_answer(self):
        search = PoseSearch(np.zeros((20, 20)), 0.1)
        self.assertIsNone(search.find([[0.0, 0.0]], headings=[0.0], low=[0.0, 0.0], high=[2.0, 2.0]))


if __name__ == "__main__":
    unittest.main()
