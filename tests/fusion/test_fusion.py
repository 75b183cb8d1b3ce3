import dataclasses
import unittest
import warnings

import numpy as np
from benchmarks.reference_filter import ReferenceFilter
from scipy.stats import chi2

from tests.motion.test_wheels import car, four_wheels
from tests.odometry.test_laser_odometry import scans_between
from tests.support import altered_robot, assert_input_error, dry_run, loop_run, robot, site, true_slip, wet_run
from vinecompass import Command, LaserOdometry, OdometryFusion, Robot, Simulator, Track, compare_tracks, fuse
from vinecompass.fusion import choose_odometry
from vinecompass.geometry import arc, chain, wrap_angle
from vinecompass.links import Recorder
from vinecompass.motion import steering_angle, wheel_speeds
from vinecompass.odometry import ScanMotion
from vinecompass.rehearsal import inject_fault
from vinecompass.runs import Imu, Positions, Run, Scans, Wheels
from vinecompass.settings import FusionSettings

NO_DOUBT = {
    "turn_rate_bias": 0.0,
    "turn_rate_bias_spread": 0.005,
    "turn_rate_scale_spread": 1e-5,
    "acceleration_bias": (0.0, 0.0),
}
"""Biases that the file does not know, and scales that it does, as those of the simulator are what it says."""


def blind_robot(**tables):
    """The demo robot with a scanner of three beams, so that simulating it costs little."""
    known = {"lidar": {"beams": 3}, "imu": NO_DOUBT, "wheels": {"scale_spread": 1e-5}}
    return altered_robot(robot(), **(known | tables))


def short_drive(told: Robot, seed: int):
    """Stand, drive, curve and turn for 13 s on dry floor, with biases that the robot file does not know."""
    rng = np.random.default_rng(1000 + seed)
    imu = {"turn_rate_bias": rng.normal(0.0, 0.005), "acceleration_bias": tuple(rng.normal(0.0, 0.05, 2).tolist())}
    simulator = Simulator(
        site().model_copy(update={"people": []}), altered_robot(told, imu=imu), start=[30.0, 18.5, np.pi], seed=seed
    )
    recorder = Recorder(told, simulator.pose)
    for command, seconds in (
        (Command(), 2.0),
        (Command(0.8), 4.0),
        (Command(0.8, turn_rate=0.15), 1.0),
        (Command(0.0, turn_rate=0.8), 4.0),
        (Command(0.6), 2.1),
    ):
        recorder.add(command, simulator.step(command, seconds))
    return recorder.run(None)


def feed(fusion, run, order):
    """Give a filter the IMU's and the wheels' readings of a run, in an order of (stamp, stream, row)."""
    for _, stream, i in order:
        if stream == 0:
            fusion.update_imu(run.imu.t[i], run.imu.turn_rate[i], run.imu.acceleration_x[i], run.imu.acceleration_y[i])
        else:
            fusion.update_wheels(run.wheels.t[i], run.wheels.angles[i])


class Consistency(unittest.TestCase):
    def test_the_normalised_error_over_fifty_seeds_is_inside_its_bounds(self):
        # Four averages are looked at: all of them lie within these bounds in 95 % of such tests.
        bounds = chi2.ppf([0.025 / 4, 1.0 - 0.025 / 4], 3 * 50) / 50
        for name, told in (
            ("wheels and IMU", blind_robot()),
            (
                "IMU off the axle and turned, position off it too",
                blind_robot(
                    imu=NO_DOUBT | {"mount": (0.2, -0.15, 90.0)},
                    position={"mount": (-0.3, 0.1), "rate": 2.0},
                ),
            ),
        ):
            with self.subTest(sensors=name):
                squares = []
                for seed in range(50):
                    run = short_drive(told, seed)
                    fused = fuse(run, sources=[s for s in ("imu", "wheels", "position") if s in run.streams()])
                    row = []
                    for t in (8.0, 13.0):
                        i = np.searchsorted(fused.track.t, t - 1e-6)
                        off = fused.track.poses[i] - run.truth.at(fused.track.t[i : i + 1])[0]
                        off[2] = wrap_angle(off[2])
                        row.append(off @ np.linalg.solve(fused.track.covariances[i], off))
                    squares.append(row)
                for average in np.mean(squares, axis=0):
                    self.assertGreater(average, bounds[0])
                    self.assertLess(average, bounds[1])


class AgainstTheReference(unittest.TestCase):
    def setUp(self):
        self.run = dry_run()
        self.order = sorted(
            [(t, 0, i) for i, t in enumerate(self.run.imu.t[:1500])]
            + [(t, 1, i) for i, t in enumerate(self.run.wheels.t[:750])]
        )

    def test_the_same_filter_in_numpy_matrices_gives_the_same(self):
        ours = OdometryFusion(self.run.robot, start=self.run.start, settings=FusionSettings(gate=1.0 - 1e-15))
        reference = ReferenceFilter(self.run.robot, self.run.start)
        feed(ours, self.run, self.order)
        feed(reference, self.run, self.order)
        np.testing.assert_allclose(ours.pose[:2], reference.x[:2], atol=1e-9)
        np.testing.assert_allclose(ours.velocity, reference.x[3:6], atol=1e-9)
        np.testing.assert_allclose(ours.covariance, reference.covariance[:3, :3], rtol=1e-6)
        self.assertAlmostEqual(ours.gyro_bias, reference.x[6], places=9)

    def test_late_readings_are_put_back_and_too_late_ones_are_not(self):
        in_order, shuffled = (OdometryFusion(self.run.robot, start=self.run.start) for _ in range(2))
        feed(in_order, self.run, self.order)
        # IMU readings come up to 0.4 s late, and in any order; the wheels, which add up, in theirs.
        rng = np.random.default_rng(4)
        feed(shuffled, self.run, sorted(self.order, key=lambda item: item[0] + (item[1] == 0) * rng.uniform(0.0, 0.4)))
        np.testing.assert_allclose(shuffled.pose, in_order.pose, atol=1e-9)
        np.testing.assert_allclose(shuffled.covariance, in_order.covariance, rtol=1e-6)
        self.assertEqual(shuffled.update_imu(1.0, 0.0, 0.0, 0.0), "late")
        self.assertEqual(shuffled.report()["imu"].late, 1)
        np.testing.assert_allclose(shuffled.pose, in_order.pose, atol=1e-9)

    def test_what_makes_no_sense_is_left_out_and_counted(self):
        fusion = OdometryFusion(self.run.robot, start=self.run.start)
        feed(fusion, self.run, self.order)
        before = fusion.pose
        t, angles = fusion.t, self.run.wheels.angles[749]
        for result, wanted in (
            (fusion.update_imu(t, float("nan")), "refused"),
            (fusion.update_imu(float("inf"), 0.1), "refused"),
            (fusion.update_imu(t, 1e4), "refused"),
            (fusion.update_wheels(t + 0.02, angles + [float("nan"), 0.0]), "refused"),
            (fusion.update_wheels(t + 0.02, angles + 1e5), "refused"),
            (fusion.update_position(t, float("nan"), 0.0), "refused"),
            (fusion.update_position(t, before[0] + 30.0, before[1]), "gated"),
            (fusion.update_imu(t, 9.0), "gated"),
        ):
            self.assertEqual(result, wanted)
        np.testing.assert_allclose(fusion.pose, before, atol=1e-6)
        report = fusion.report()
        self.assertEqual((report["imu"].refused, report["imu"].gated, report["wheels"].refused), (3, 1, 2))
        # After the leap of the counter, the wheels are believed again.
        results = [
            fusion.update_wheels(self.run.wheels.t[i] + 0.04, self.run.wheels.angles[i] + 1e5) for i in (750, 751)
        ]
        self.assertEqual(results, ["taken", "taken"])


class OnARun(unittest.TestCase):
    def test_over_the_wet_floor(self):
        run = wet_run()
        way, reports = run.truth.length, {}
        for most_share, *sources in ((0.01, "imu", "wheels"), (0.003, "imu", "wheels", "scans")):
            fused = fuse(run, sources=sources)
            error = compare_tracks(fused.track, run.truth)
            with self.subTest(sources=sources):
                self.assertLess(abs(error.heading[-1]), np.radians(2.0))
                self.assertLess(error.position[-1], most_share * way)
                slip = true_slip(run)
                self.assertLess(abs(fused.slips[0, 0] - slip[0]), 0.8)
                self.assertLess(abs(fused.slips[-1, 1] - slip[-1]), 0.8)
            reports |= fused.report
        wheels = compare_tracks(fused.alone["wheels"], run.truth)
        self.assertGreater(np.abs(wheels.heading[-1]), np.radians(30.0))
        self.assertGreater(reports["wheels"].gated, 500)
        # Of scans compared with one reference, five count for one, so that theirs is the smaller.
        for source, least in (("wheels", 0.5), ("scans", 0.1)):
            self.assertGreater(reports[source].normalised_innovation, least)
            self.assertLess(reports[source].normalised_innovation, 2.0)

    def test_scans_overrule_wheels_that_spin_while_the_robot_stands(self):
        lidar = robot().scanner
        laser, fusion = LaserOdometry(lidar), OdometryFusion(robot())
        scans = scans_between(site().segments, [[36.0, 24.6, 0.0]] * 30, lidar, noise=0.01)
        for i, scan in enumerate(scans):
            for j in range(5):
                spun = max(0.1 * i + 0.02 * j - 1.0, 0.0) * 5.0
                fusion.update_wheels(scan.t + 0.02 * j, [spun, spun])
            fusion.update_scan(laser.update(scan))
        self.assertLess(np.hypot(*fusion.pose[:2]), 0.06)
        self.assertGreater(fusion.report()["wheels"].gated, 50)

    def test_a_body_outruns_its_wheels_only_while_the_floor_brakes_it(self):
        # At 2 s wheels at 1 m/s lock. Either the robot slides on, braked by 1.5 m/s2, or it was caught, unfelt.
        t = np.arange(0.0, 8.0, 0.02)
        angles = np.where(t < 2.0, 0.5 * t**2 - np.maximum(t - 1.0, 0.0) ** 2 / 2.0, 1.5) / robot().drive.wheel_radius
        for braked, way, most in ((1.5, 1.5 + 1.0 / 3.0, 0.03), (0.0, 1.5, 2.0)):
            fusion = OdometryFusion(robot())
            for i, now in enumerate(t):
                push = 1.0 if now < 1.0 else -braked if 2.0 <= now < 2.0 + 1.0 / 1.5 else 0.0
                fusion.update_imu(now, 0.0, push, 0.0)
                fusion.update_wheels(now, [angles[i], angles[i]])
            with self.subTest(braked=braked):
                self.assertAlmostEqual(fusion.velocity[0], 0.0, delta=0.02)
                self.assertAlmostEqual(fusion.pose[0], way, delta=most)

    def test_a_gyro_stamped_some_milliseconds_off_turns_no_scan(self):
        told = altered_robot(robot(), imu={"turn_rate_scale": 1.0, "turn_rate_bias": 0.0})
        fine = np.arange(0.0, 30.0, 0.001)
        # Quarter turns to the left, with a second's rest after each.
        since = np.mod(fine, 3.363) - 1.0
        rates = np.clip(np.minimum(2.0 * since, 2.0 * (2.363 - since)), 0.0, 0.8)
        turned = np.cumsum(rates) * 0.001
        rims = 0.5 * told.drive.track_width / told.drive.wheel_radius * np.array([-1.0, 1.0])
        spreads = np.array([0.002, 0.002, np.radians(0.04)])
        for late in (-0.005, 0.0, 0.005):
            rng, fusion, reference = np.random.default_rng(0), OdometryFusion(told), 0.0
            for i, t in enumerate(np.arange(0.0, 27.0, 0.01)):
                rate = np.interp(t + late, fine, rates) + told.imu.turn_rate_noise * rng.normal()
                fusion.update_imu(t, rate, 0.0, 0.0)
                heading = np.interp(t, fine, turned)
                if i % 2 == 0:
                    fusion.update_wheels(t, rims * heading)
                if i % 10 == 0:
                    way = np.array([0.0, 0.0, heading - reference + spreads[2] * rng.normal()])
                    begins, here = i == 0 or way[2] > np.radians(20.0), np.array([0.0, 0.0, heading])
                    doubt = np.diag(spreads**2) if i else np.zeros((3, 3))
                    fusion.update_scan(ScanMotion(t, here, np.zeros(3), way, doubt, 1.0, None, begins))
                    reference = heading if begins else reference
            with self.subTest(late=late):
                # Two scans' noise for each of some 36 references: 0.34 degrees.
                self.assertLess(abs(wrap_angle(fusion.pose[2] - heading)), np.radians(2.0 * 0.34))
                self.assertLess(fusion.report()["scans"].gated, 5)

    def test_a_gyro_that_the_wheels_contradict_bends_no_scan(self):
        run = loop_run()
        in_degrees = dataclasses.replace(run.imu, turn_rate=np.degrees(run.imu.turn_rate))
        fused = fuse(dataclasses.replace(run, imu=in_degrees))
        self.assertIn("as if it counted degrees: left out", fused.notes[0])
        self.assertLess(compare_tracks(fused.track, run.truth).position[-1], 0.1)

    def test_wheels_lead_where_a_plain_aisle_shows_scans_nothing(self):
        lidar = {"beams": 360, "first_beam_deg": -180.0, "last_beam_deg": 179.0, "farthest": 12.0, "rate": 10.0}
        told = altered_robot(robot(), lidar=lidar)
        walls = [[-60.0, -1.2, 60.0, -1.2], [-60.0, 1.2, 60.0, 1.2]]
        poses = [[0.06 * i - 9.0, 0.1, 0.0] for i in range(300)]
        scans = list(scans_between(walls, poses, told.scanner, noise=0.02))
        t = np.arange(0.0, scans[-1].t, 0.02)
        run = Run(
            robot=told,
            start=np.zeros(3),
            scans=Scans(np.array([scan.t for scan in scans]), np.stack([scan.ranges for scan in scans])),
            wheels=Wheels(t, np.outer(0.6 * t / told.drive.wheel_radius, [1.0, 1.0])),
        )
        fused = fuse(run, sources=["wheels", "scans"])
        # Lines askew made up a motion of their own: the wheels were given up for it, and 18 m became 3 m.
        self.assertAlmostEqual(fused.track.poses[-1, 0], 0.6 * t[-1], delta=0.05)
        self.assertEqual(fused.report["wheels"].gated, 0)
        self.assertEqual(fused.notes, ())
        # A hundred scans that show nothing used to tell a way to 0.2 m: they are doubted, but not across the aisle.
        guessed = fuse(run, sources=["scans"])
        off = guessed.track.poses[-1] - [0.6 * t[-1], 0.0, 0.0]
        along, across, turned = np.sqrt(np.diagonal(guessed.track.covariances[-1]))
        self.assertLess(abs(off[0]), 2.0 * along)
        self.assertLess(np.abs(off[1:]).max(), 0.05)
        self.assertLess(max(across, turned), 0.1)
        self.assertIn("scans do not show it from 0 to 30 s", guessed.notes[0])
        # A scan that shows nothing at all is none the better: the wheels lead on.
        dark = dataclasses.replace(run.scans, ranges=np.where(run.scans.t[:, None] > 9.0, np.inf, run.scans.ranges))
        with warnings.catch_warnings():
            warnings.simplefilter("error")
            blind = fuse(dataclasses.replace(run, scans=dark), sources=["wheels", "scans"])
        self.assertAlmostEqual(blind.track.poses[-1, 0], 0.6 * t[-1], delta=0.1)
        self.assertTrue(np.all(np.isfinite(blind.track.covariances)))

    def test_every_drive_an_odometry_stream_and_position_fixes(self):
        t = np.linspace(0.0, 8.0, 401)
        for drive, velocity in ((four_wheels(), [0.3, 0.2, 0.3]), (car(), [0.5, 0.0, 0.3])):
            made = Robot.model_validate(
                robot().model_dump(exclude_none=True) | {"drive": drive.model_dump(exclude_none=True)}
            )
            truth = Track(t, chain(np.zeros(3), np.repeat(arc(velocity, 0.02)[None], 400, axis=0)))
            steering = np.full(401, steering_angle(drive, velocity)) if drive.kind == "car" else None
            run = type(dry_run())(
                made,
                np.zeros(3),
                odometry=truth,
                wheels=Wheels(t, np.outer(t, wheel_speeds(drive, velocity)), steering),
                position=Positions(t[::50], *truth.poses[::50, :2].T),
            )
            for sources in (["wheels"], ["odometry"], ["wheels", "position"]):
                with self.subTest(kind=drive.kind, sources=sources):
                    fused = fuse(run, sources=sources)
                    self.assertLess(compare_tracks(fused.track, truth).position[-1], 0.03)


class BadInput(unittest.TestCase):
    def test_bad_rows_are_left_out_and_noted(self):
        run = dry_run()
        rate, t = run.imu.turn_rate.copy(), run.wheels.t.copy()
        rate[300:310] = np.nan
        t[1000] += 5000.0
        run = dataclasses.replace(
            run,
            as_recorded=True,
            imu=dataclasses.replace(run.imu, turn_rate=rate),
            wheels=dataclasses.replace(run.wheels, t=t),
            position=Positions(np.array([3.0]), np.zeros(1), np.zeros(1)),
        )
        fused = fuse(run, sources=["wheels", "imu"])
        notes = " ".join(fused.notes)
        for words in ("imu: 10 rows not finite", "wheels: 0 rows not finite and 1 out of order", "position: a single"):
            self.assertIn(words, notes)
        self.assertLess(compare_tracks(fused.track, run.truth).position[-1], 0.01 * run.truth.length)

    def test_a_track_from_sources_at_odds_is_never_handed_over_in_silence(self):
        run = dry_run()
        self.assertEqual(fuse(run, sources=["wheels", "imu"]).doubts, ())
        against = dataclasses.replace(run, imu=dataclasses.replace(run.imu, turn_rate=-run.imu.turn_rate))
        self.assertIn("contradict", " ".join(fuse(against, sources=["wheels", "imu"]).doubts))
        # With scans there are two against one.
        whole = fuse(against)
        self.assertIn("imu: it turns -1.0", " ".join(whole.notes))
        self.assertLess(compare_tracks(whole.track, run.truth).position[-1], 0.01 * run.truth.length)

    def test_scans_by_another_clock_are_told_by_their_turning(self):
        late = inject_fault(dry_run(), "scan clock late", 0.0, 1.0)
        for run, other in ((late, "gyro"), (dataclasses.replace(late, imu=None), "wheels")):
            with self.subTest(other=other):
                (doubt,) = fuse(run).doubts_of_scans
                seconds = float(doubt.split("turn ")[1].split(" s after")[0])
                self.assertAlmostEqual(seconds, 0.2, delta=0.05)
                self.assertIn(other, doubt)
                self.assertEqual(choose_odometry(run, "fused").doubts, (doubt,))
        self.assertEqual(choose_odometry(dry_run(), "fused").doubts, ())

    def test_what_cannot_be_fused_is_named(self):
        run = dry_run()
        slow = dataclasses.replace(run.imu, t=run.imu.t * 1000.0)
        late = dataclasses.replace(run.imu, t=run.imu.t + 86400.0)
        far = Positions(np.array([0.0, 1.0]), np.array([90.0, 90.0]), np.zeros(2))
        for changed, sources, words in (
            (run, ["sonar"], ["sources", "'sonar'", "position"]),
            (run, ["wheels", "position"], ["position", "no readings"]),
            (run, ["imu"], ["nothing there tells speed", "wheels"]),
            (dataclasses.replace(run, imu=late), ["wheels", "imu"], ["wheels", "86400", "one clock"]),
            (dataclasses.replace(run, imu=slow), ["wheels", "imu"], ["imu", "lasts 5", "one unit"]),
            (dataclasses.replace(run, position=far), None, ["start", "first position fix"]),
            (
                dataclasses.replace(run, imu=Imu(*(column[:1] for column in vars(run.imu).values()))),
                ["wheels", "imu"],
                ["imu", "no readings"],
            ),
        ):
            with self.subTest(words=words):
                assert_input_error(self, lambda c=changed, s=sources: fuse(c, sources=s), *words)


if __name__ == "__main__":
    unittest.main()
