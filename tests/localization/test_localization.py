import dataclasses
import unittest

import numpy as np

from tests.support import assert_input_error, robot, room, short_mapping, short_run
from vinecompass import Grid, ParticleLocalizer, compare_tracks, localize
from vinecompass.localization import LocalizationSettings
from vinecompass.localization.kernels import weigh_particles
from vinecompass.odometry import Motion, motion_at, odometry_track
from vinecompass.runs import Scan

GRID = short_mapping().grid


def off_by(distance, turn_deg, direction):
    return short_run().start + [distance * np.cos(direction), distance * np.sin(direction), np.radians(turn_deg)]


class AgainstTheTruth(unittest.TestCase):
    def test_from_half_a_metre_and_fifteen_degrees_off_it_settles_and_stays(self):
        for seed, turn in enumerate((15.0, -15.0, 15.0, -15.0)):
            with self.subTest(seed=seed):
                found = localize(GRID, short_run(), off_by(0.5, turn, 1.6 * seed), seed=seed)
                self.assertLess(found.settled_after, 5.0)
                error = compare_tracks(found.track, short_run().truth).since(found.track.t[found.settled_at])
                self.assertLess(error.position_rmse, 0.06)
                self.assertLess(np.degrees(error.heading_rmse), 1.0)

    def test_the_error_lies_within_three_of_the_reported_spreads(self):
        found = localize(GRID, short_run(), off_by(0.3, 5.0, 1.0), seed=9)
        error = compare_tracks(found.track, short_run().truth)
        late = slice(found.settled_at, None)
        inside = error.position[late] < 3.0 * np.hypot(found.spreads[late, 0], 0.02)
        self.assertGreater(inside.mean(), 0.95)

    def test_in_a_map_of_another_place_it_never_settles(self):
        start = np.array([3.0, 2.0, 0.0])
        found = localize(room(), short_run(), start, seed=1)
        self.assertIsNone(found.settled_at)
        self.assertEqual(found.settled_after, np.inf)
        self.assertLess(np.nanmean(found.agreements), 0.5)

    def test_the_map_may_be_turned_in_the_site(self):
        turn = 0.5
        turned = Grid(GRID.log_odds, GRID.cell_size, (10.0, 20.0), turn)
        from vinecompass.geometry import compose, relative

        start = compose(turned.frame, relative(short_run().start, GRID.frame))
        found = localize(turned, short_run(), start, seed=2)
        back = compose(GRID.frame, relative(found.track.poses[-1], turned.frame))
        self.assertLess(np.hypot(*(back - short_run().truth.at(found.track.t[-1:])[0])[:2]), 0.08)


class TheFilter(unittest.TestCase):
    def test_weights_are_the_sum_of_the_field_at_each_point(self):
        rng = np.random.default_rng(17)
        field = rng.normal(size=(40, 50)).astype(np.float32)
        particles = np.column_stack([rng.uniform(-5.0, 55.0, (30, 2)), rng.uniform(-3.0, 3.0, 30)])
        points = rng.uniform(-12.0, 12.0, (25, 2))
        cosine, sine = np.cos(particles[:, 2:]), np.sin(particles[:, 2:])
        columns = np.floor(particles[:, :1] + cosine * points[:, 0] - sine * points[:, 1]).astype(int)
        rows = np.floor(particles[:, 1:2] + sine * points[:, 0] + cosine * points[:, 1]).astype(int)
        on = (rows >= 0) & (rows < 40) & (columns >= 0) & (columns < 50)
        wanted = np.where(on, field[np.clip(rows, 0, 39), np.clip(columns, 0, 49)], -1.5).sum(axis=1)
        np.testing.assert_allclose(weigh_particles(field, particles, points, -1.5), wanted, rtol=1e-6)

    def test_the_same_seed_gives_the_same_estimates_in_stream_and_batch(self):
        run, start = short_run(), off_by(0.2, 5.0, 0.0)
        batch = localize(GRID, run, start, seed=4)
        localizer, odometry = ParticleLocalizer(GRID, run.robot, start, seed=4), odometry_track(run)
        for i, scan in enumerate(run.scans):
            estimate = localizer.update(scan, motion_at(odometry, scan.t, run.robot.scanner))
            np.testing.assert_array_equal(estimate.pose, batch.track.poses[i])
        self.assertAlmostEqual(localizer.weights.sum(), 1.0)
        self.assertEqual(len(localizer.particles), LocalizationSettings().particles)

    def test_without_a_single_reading_the_odometry_carries_on_and_doubt_grows(self):
        localizer = ParticleLocalizer(GRID, robot(), off_by(0.0, 0.0, 0.0), seed=5)
        blind = np.full(robot().scanner.beams, np.nan, np.float32)
        spreads = []
        for i in range(50):
            pose = np.array([0.05 * i, 0.0, 0.0])
            estimate = localizer.update(Scan(0.1 * i, blind), Motion(0.1 * i, pose, np.zeros((433, 3))))
            spreads.append(estimate.covariance[0, 0])
            self.assertTrue(np.isnan(estimate.agreement) and not estimate.settled)
        self.assertGreater(spreads[-1], spreads[0])
        self.assertAlmostEqual(estimate.pose[0], short_run().start[0] + 2.45, delta=0.3)

    def test_poses_and_maps_that_make_no_sense_are_named(self):
        empty = dataclasses.replace(GRID, log_odds=np.full((10, 10), -2.0, np.float32))
        for grid, pose, words in (
            (GRID, [500.0, 0.0, 0.0], ["initial_pose", "500.0", "off the map"]),
            (GRID, [np.nan, 0.0, 0.0], ["initial_pose", "not a pose"]),
            (empty, [36.0, 24.0, 0.0], ["no occupied cell"]),
        ):
            assert_input_error(self, lambda g=grid, p=pose: ParticleLocalizer(g, robot(), p, seed=1), *words)


if __name__ == "__main__":
    unittest.main()
