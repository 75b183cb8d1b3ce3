import unittest

import numpy as np

from tests.support import robot, site
from vinecompass.geometry import arc, compose, wrap_angle
from vinecompass.grids import GrowingGrid
from vinecompass.matching import SearchWindow, match_scan
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
        cls.grid = GrowingGrid(0.05, occupied_step=0.9, free_step=0.45, bound=6.0, spread=0.09)
        cosine, sine = np.cos(POSE[2]), np.sin(POSE[2])
        for seed in range(12):
            points, _ = noisy_points(STILL, seed)
            hits = points @ np.array([[cosine, sine], [-sine, cosine]]) + POSE[:2]
            origins = np.repeat(POSE[None, :2], len(hits), axis=0)
            cls.grid.add(hits, origins, origins + 0.95 * (hits - origins))

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


if __name__ == "__main__":
    unittest.main()
