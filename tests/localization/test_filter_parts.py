import unittest

import numpy as np
from scipy.stats import chi2, expon, norm

from tests.support import robot, room
from vinecompass import Grid, grid_from_polygons
from vinecompass.geometry import compose, relative, wrap_angle
from vinecompass.grids import MapRays
from vinecompass.localization.clusters import find_clusters, whole_cloud
from vinecompass.localization.drift import FASTEST_SHIFT, FASTEST_TURN, DriftFollower
from vinecompass.localization.kernels import tempered, weigh_particles
from vinecompass.localization.likelihood_averages import LikelihoodAverages
from vinecompass.localization.measurement_model import (
    BeamMixtureModel,
    LikelihoodFieldModel,
    bordered,
    choose_beams,
    measurement_model,
)
from vinecompass.localization.resampling import count_bound, low_variance_sample, particles_needed
from vinecompass.localization.state import StateWatch
from vinecompass.settings import LocalizationSettings


class Measurement(unittest.TestCase):
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
        np.testing.assert_allclose(weigh_particles(bordered(field, -1.5), particles, points), wanted, rtol=1e-4)

    def test_the_field_model_weighs_an_end_by_its_distance_to_the_wall(self):
        # One wall cell in the middle of the floor; ends at growing distances from it.
        log_odds = np.full((41, 41), -3.0, np.float32)
        log_odds[20, 20] = 3.0
        grid = Grid(log_odds, 0.1, (-2.05, -2.05), 0.0)
        model = LikelihoodFieldModel(grid, MapRays(grid), spread=0.2, stray_share=0.25)
        for distance in (0.0, 0.1, 0.3, 1.0):
            found = model.log_likelihoods(np.zeros((1, 3)), np.zeros((1, 2)), np.array([[distance, 0.0]]))[0]
            wanted = np.log(0.75 * np.exp(-0.5 * (distance / 0.2) ** 2) + 0.25)
            self.assertAlmostEqual(found, wanted, places=4)

    def test_no_beam_ends_on_the_far_side_of_a_solid_thing_from_within(self):
        solid = [(2.0, 1.0), (3.0, 1.0), (3.0, 3.0), (2.0, 3.0)]
        grid = grid_from_polygons([(0, 0), (5, 0), (5, 4), (0, 4)], [solid], 0.05)
        model = LikelihoodFieldModel(grid, MapRays(grid), spread=0.06, stray_share=0.2)
        beam, poses = np.array([[1.5, 0.0]]), np.array([[0.5, 2.0, 0.0], [1.48, 2.0, 0.0], [4.5, 2.0, np.pi]])
        front, behind, other_side = model.log_likelihoods(poses, np.zeros((1, 2)), beam)
        self.assertAlmostEqual(front, other_side, delta=0.4)
        self.assertLess(behind, front - 1.4)

    def test_the_beam_mixture_is_hit_short_and_random(self):
        grid, spread, stray = room(), 0.06, 0.2
        lidar = robot().scanner
        model = BeamMixtureModel(grid, MapRays(grid), farthest=lidar.farthest, spread=spread, stray_share=stray)
        pose, short = np.array([[1.0, 2.0, 0.0]]), stray * model.SHORT_OF_STRAYS
        wall = MapRays(grid).ranges(pose, [0.0], farthest=lidar.farthest)[0, 0]
        for length in (0.5, 2.0, wall - 0.05, wall, wall + 0.1, wall + 1.0):
            found = model.log_likelihoods(pose, np.zeros((1, 2)), np.array([[length, 0.0]]))[0]
            density = (1.0 - stray) * norm.pdf(length, wall, spread) + (stray - short) / lidar.farthest
            density += short * expon.pdf(length, scale=1.0 / model.DECAY) * (length < wall)
            # The model's density is by the cell.
            self.assertAlmostEqual(found, np.log(density * grid.cell_size), places=3, msg=str(length))

    def test_both_models_prefer_the_true_pose_and_only_the_beams_mind_a_wall_between(self):
        log_odds = room().log_odds.copy()
        log_odds[:, 60] = 3.0
        grid = Grid(log_odds, 0.05)
        rays = MapRays(grid)
        angles = np.linspace(-3.0, 3.0, 60)
        true = np.array([1.5, 2.0, 0.3])
        reach = rays.ranges(true[None], angles, farthest=10.0)[0]
        ends = reach[:, None] * np.stack([np.cos(angles), np.sin(angles)], axis=-1)
        poses = np.array([true, true + [0.3, 0.0, 0.0], true + [0.0, 0.0, 0.2], [4.5, 2.0, 0.3]])
        for name in ("field", "beams"):
            settings = LocalizationSettings(measurement=name)
            weights = measurement_model(grid, rays, robot(), settings).log_likelihoods(poses, np.zeros_like(ends), ends)
            self.assertEqual(int(np.argmax(weights)), 0, name)
            # A beam through the wall that ends on the far one: fine for the field, a stray for the beam.
            through = np.array([[4.45, 0.0]])
            one = measurement_model(grid, rays, robot(), settings)
            far, near = (
                one.log_likelihoods(np.array([[1.5, 2.0, 0.0]]), np.zeros((1, 2)), end)[0]
                for end in (through, np.array([[1.525, 0.0]]))
            )
            self.assertEqual(far < near - 1.0, name == "beams")

    def test_beams_are_chosen_evenly_over_what_was_hit(self):
        rng = np.random.default_rng(3)
        near = np.column_stack([np.linspace(-1.0, 1.0, 400), np.full(400, 0.5)])
        far = np.column_stack([np.full(15, 9.0), np.linspace(-3.0, 3.0, 15)])
        ends = np.vstack([near, far, rng.uniform(20.0, 21.0, (1, 2))])
        chosen = choose_beams(ends, 90)
        self.assertEqual(len(chosen), len(np.unique(np.floor(ends / 0.15), axis=0)))
        self.assertGreaterEqual(np.count_nonzero(chosen >= 400), 15)
        self.assertLessEqual(len(choose_beams(ends, 10)), 10)
        self.assertEqual(len(choose_beams(np.zeros((0, 2)), 90)), 0)


class Resampling(unittest.TestCase):
    def test_the_bound_is_the_chi_square_quantile(self):
        for bins in (2, 10, 50, 400):
            # Fox's closed form approximates the quantile (Wilson and Hilferty): exact to a few per cent.
            self.assertAlmostEqual(count_bound(bins, 0.05) / (chi2.ppf(0.99, bins - 1) / 0.1), 1.0, delta=0.04)
        self.assertEqual(count_bound(1, 0.05), 0.0)

    def test_bins_are_counted_as_numpy_does(self):
        rng = np.random.default_rng(5)
        particles = rng.normal(scale=[0.4, 0.4, 0.2], size=(900, 3))
        drawn = rng.integers(900, size=500)
        bins = np.unique(np.floor(particles[drawn] / [0.1, 0.1, np.radians(5.0)]), axis=0)
        self.assertAlmostEqual(particles_needed(particles, drawn, 0.05), count_bound(len(bins), 0.05))

    def test_low_variance_sampling_draws_each_as_often_as_its_weight_says_give_or_take_one(self):
        rng = np.random.default_rng(6)
        weights = rng.dirichlet(np.full(40, 0.3))
        counts = np.bincount(low_variance_sample(weights, 1000, rng), minlength=40)
        self.assertEqual(counts.sum(), 1000)
        self.assertLess(np.abs(counts - 1000.0 * weights).max(), 1.0 + 1e-9)

    def test_flattened_weights_keep_a_share_of_the_particles(self):
        rng = np.random.default_rng(7)
        weights = np.full(500, 1.0 / 500)
        mild, sharp = rng.normal(scale=0.1, size=500), rng.normal(scale=60.0, size=500)
        exact = weights * np.exp(mild)
        np.testing.assert_allclose(tempered(weights, mild, 0.05), exact / exact.sum())
        flattened = tempered(weights, sharp, 0.05)
        self.assertGreaterEqual(1.0 / np.sum(flattened**2), 25.0)
        self.assertEqual(int(np.argmax(flattened)), int(np.argmax(sharp)))


class Clusters(unittest.TestCase):
    def test_two_places_are_told_apart_and_not_averaged(self):
        rng = np.random.default_rng(8)
        here = rng.normal([2.0, 3.0, np.pi], [0.05, 0.05, 0.05], (300, 3))
        there = rng.normal([9.0, 3.0, 0.5], [0.05, 0.02, 0.05], (100, 3))
        particles = np.vstack([there, here])
        particles[:, 2] = wrap_angle(particles[:, 2])
        clusters, labels = find_clusters(particles, np.full(400, 1.0 / 400))
        self.assertEqual(labels.tolist(), [1] * 100 + [0] * 300)
        self.assertAlmostEqual(clusters[0].weight, 0.75)
        off = clusters[0].pose - [2.0, 3.0, np.pi]
        self.assertLess(np.abs([*off[:2], wrap_angle(off[2])]).max(), 0.02)
        np.testing.assert_allclose(clusters[1].covariance, np.cov(there.T, bias=True), atol=1e-9)
        self.assertAlmostEqual(clusters[1].spread, np.sqrt(np.linalg.eigvalsh(np.cov(there[:, :2].T, bias=True))[-1]))

    def test_a_long_cloud_without_a_gap_is_one_and_the_same_place_turned_is_another(self):
        rng = np.random.default_rng(9)
        aisle = np.column_stack([np.linspace(0.0, 8.0, 500), rng.normal(0.0, 0.02, 500), rng.normal(0.0, 0.02, 500)])
        weights = np.full(500, 1.0 / 500)
        self.assertEqual(len(find_clusters(aisle, weights)[0]), 1)
        aisle[::2, 2] += 3.0
        self.assertEqual(len(find_clusters(aisle, weights)[0]), 2)
        self.assertAlmostEqual(whole_cloud(aisle, weights).weight, 1.0)

    def test_a_handful_of_strays_is_neither_told_of_nor_averaged(self):
        particles = np.vstack([np.zeros((995, 3)), np.full((5, 3), 9.0)])
        for stray in (9e-6, 9e-4):
            weights = np.append(np.full(995, 1.0 / 995), np.full(5, stray))
            clusters, _ = find_clusters(particles, weights / weights.sum())
            self.assertEqual(len(clusters), 1)
            self.assertEqual(clusters[0].pose.tolist(), [0.0, 0.0, 0.0])
            self.assertEqual(clusters[0].spread, 0.0)


class Averages(unittest.TestCase):
    def test_a_fall_of_the_likelihood_asks_for_particles_elsewhere_and_noise_does_not(self):
        rng, averages = np.random.default_rng(10), LikelihoodAverages()
        steady = [averages.update(0.5 + rng.normal(scale=0.03), learn=True) for _ in range(300)]
        self.assertEqual(max(steady), 0.0)
        fallen = [averages.update(0.2, learn=False) for _ in range(20)]
        # In the end the short average is at 0.2, the long one still at 0.5.
        self.assertAlmostEqual(fallen[-1], 1.0 - 0.2 / (0.75 * 0.5), delta=0.03)
        self.assertLess(np.flatnonzero(np.array(fallen) > 0.0)[0], 4)


class States(unittest.TestCase):
    def watch(self, agreements, *, spread=0.02, **keys):
        watch = StateWatch(LocalizationSettings(), "settling", "begun")
        seen = []
        for i, agreement in enumerate(agreements):
            cloud = np.random.default_rng(i).normal(scale=[spread, spread, 0.005], size=(200, 3))
            clusters, _ = find_clusters(cloud, np.full(200, 0.005))
            watch.update(0.1 * i, clusters, agreement, **keys)
            seen.append(watch.state)
        return seen, watch

    def test_it_tracks_once_drawn_together_for_a_while_and_doubts_only_what_lasts(self):
        seen, watch = self.watch([0.9] * 10)
        self.assertEqual((seen[5], seen[-1]), ("settling", "tracking"))
        self.assertIn("90 %", watch.reason)
        seen, _ = self.watch([0.9] * 10 + [0.3] * 4 + [0.9] * 5)
        self.assertNotIn("doubtful", seen)
        seen, watch = self.watch([0.9] * 10 + [0.3] * 10)
        self.assertEqual(seen[-1], "doubtful")
        self.assertIn("30 %", watch.reason)

    def test_to_be_believed_again_takes_more_than_to_be_doubted(self):
        seen, _ = self.watch([0.9] * 10 + [0.55] * 20)
        self.assertEqual(seen[-1], "tracking")
        seen, _ = self.watch([0.9] * 10 + [0.3] * 10 + [0.55] * 20)
        self.assertEqual(seen[-1], "doubtful")
        seen, _ = self.watch([0.9] * 10 + [0.3] * 10 + [0.7] * 10)
        self.assertEqual(seen[-1], "tracking")

    def test_a_wide_cloud_no_beams_no_map_or_a_rival_keep_it_from_tracking(self):
        for words, keys in (
            ("spread over 0.", {"spread": 0.3}),
            ("no beam has returned for 3.0 s", {"blind_for": 3.0}),
            ("fits better", {"rival": "another fits better"}),
            ("less well than before", {"fallen": True}),
        ):
            seen, watch = self.watch([0.9] * 20, **keys)
            self.assertEqual(set(seen), {"settling"})
            self.assertIn(words, watch.reason)
        seen, watch = self.watch([float("nan")] * 20)
        self.assertEqual((seen[-1], watch.reason), ("settling", "the map knows nothing where beams end"))


class Drifts(unittest.TestCase):
    def test_corrections_reach_the_robot_smoothly_and_a_new_place_begins_anew(self):
        follower, odometry = DriftFollower(), np.array([0.0, 0.0, 0.0])
        begun = follower.update(0.0, np.array([5.0, 5.0, 0.0]), odometry)
        before = compose(begun.pose, odometry)
        for i in range(1, 60):
            # By the estimates the track frame lies 0.3 m further left, and turned by 10 degrees.
            odometry = np.array([0.05 * i, 0.0, 0.0])
            estimate = compose([5.0, 5.3, np.radians(10.0)], odometry)
            drift = follower.update(0.1 * i, estimate, odometry)
            now = compose(drift.pose, odometry)
            moved = relative(now, compose(before, [0.05, 0.0, 0.0]))
            self.assertLessEqual(np.hypot(*moved[:2]), FASTEST_SHIFT * 0.1 + 1e-9)
            self.assertLessEqual(abs(moved[2]), FASTEST_TURN * 0.1 + 1e-9)
            self.assertEqual((drift.t, drift.began), (0.1 * i, 0.0))
            before = now
        self.assertLess(np.hypot(*(before - estimate)[:2]), 0.02)
        anew = follower.update(6.0, np.array([20.0, 5.0, 0.0]), odometry)
        self.assertEqual(anew.began, 6.0)
        np.testing.assert_allclose(compose(anew.pose, odometry), [20.0, 5.0, 0.0], atol=1e-12)


if __name__ == "__main__":
    unittest.main()
