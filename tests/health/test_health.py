import dataclasses
import unittest

import numpy as np

from tests.support import assert_input_error, dry_run, short_run, true_slip, wet_run
from vinecompass import check
from vinecompass.rehearsal import FAULTS, inject_fault
from vinecompass.runs import Imu, Scans

BEGIN, END = 20.0, 23.0
WHOLE = None
FOUND_AS = {
    "scan gap": ("scans", "gap"),
    "imu gap": ("imu", "gap"),
    "wheels gap": ("wheels", "gap"),
    "jittering scans": ("scans", "jitter"),
    "stamps backwards": ("imu", "stamps run backwards"),
    "stamps twice": ("wheels", "stamps twice"),
    "scan clock late": ("scans", "clock", WHOLE),
    "imu clock early": ("imu", "clock", WHOLE),
    "wheel clock late": ("wheels", "clock", WHOLE),
    "silent scanner": ("scans", "silent scanner"),
    "dead beams": ("scans", "beams that never return", WHOLE),
    "blocked sector": ("scans", "blocked sector", WHOLE),
    "ranges out of limits": ("scans", "ranges out of limits"),
    "frozen scans": ("scans", "frozen scans"),
    "ranges in millimetres": ("scans", "millimetres taken for metres", WHOLE),
    "turn rate in degrees": ("imu", "degrees taken for radians", WHOLE),
    "turn rate not a number": ("imu", "not a number"),
    "heading in degrees": ("odometry", "degrees taken for radians", WHOLE),
    "odometry in millimetres": ("odometry", "millimetres taken for metres", WHOLE),
    "odometry jump": ("odometry", "jump", (BEGIN, BEGIN)),
    "wheels too fast": ("wheels", "impossible speed"),
    "wheels spin": ("wheels", "slip"),
    "one wheel spins": ("wheels", "slip"),
    "turned lidar": ("scans", "turned lidar", WHOLE),
    "mirrored lidar": ("scans", "mirrored lidar", WHOLE),
}
"""Each fault's stream and finding, and its span where that is not BEGIN to END."""


class Faults(unittest.TestCase):
    def test_each_is_found_at_its_span_and_nothing_besides(self):
        run = dry_run()
        self.assertEqual(set(FOUND_AS), set(FAULTS))
        for fault, (stream, name, *span) in FOUND_AS.items():
            with self.subTest(fault=fault):
                health = check(inject_fault(run, fault, BEGIN, END))
                worst = health.findings[0]
                self.assertEqual((worst.stream, worst.fault), (stream, name))
                begin, end = (span[0] or (0.0, run.scans.t[-1])) if span else (BEGIN, END)
                self.assertAlmostEqual(worst.begin, begin, delta=0.5)
                self.assertAlmostEqual(worst.end, end, delta=0.5)
                self.assertTrue(worst.evidence and worst.advice)
                self.assertEqual(health.verdict, "broken" if worst.severity == "fatal" else "usable")
                # What lists its beams in reverse fires the last of them first.
                besides = ["another sweep than filed"] if fault == "mirrored lidar" else []
                self.assertEqual([each.fault for each in health.findings], [name, *besides])

    def test_none_on_clean_runs(self):
        # A coarse gyro reads the same over and over while nothing turns; that is no fault.
        imu = dry_run().imu
        coarse = dataclasses.replace(imu, turn_rate=np.round(imu.turn_rate / 0.02) * 0.02)
        for run in (dry_run(), short_run(), dataclasses.replace(dry_run(), imu=coarse)):
            health = check(run)
            self.assertEqual((health.verdict, health.findings), ("good", ()))

    def test_sizes_of_clock_offsets_and_mounts(self):
        run = dry_run()
        self.assertAlmostEqual(
            check(inject_fault(run, "scan clock late", 0, 1)).clock_offsets["scans"], -0.2, delta=0.02
        )
        turned = check(inject_fault(run, "turned lidar", 0, 1)).calibration.values["mount_heading"]
        self.assertAlmostEqual(np.degrees(turned.value - turned.filed), 90.0, delta=1.0)

    def test_a_fault_must_be_known_and_have_something_to_spoil(self):
        run = dry_run()
        assert_input_error(self, lambda: inject_fault(run, "gremlins", 1, 2), "'gremlins'", "frozen scans")
        assert_input_error(self, lambda: inject_fault(run, "frozen scans", 2, 1), "2-1", "begin before end")
        assert_input_error(self, lambda: inject_fault(dataclasses.replace(run, imu=None), "imu gap", 1, 2), "imu")


class Slip(unittest.TestCase):
    def test_the_wet_floor_is_found_where_it_is(self):
        run = wet_run()
        slip = true_slip(run)
        slips = [finding for finding in check(run).findings if finding.fault == "slip"]
        self.assertAlmostEqual(slips[0].begin, slip[0], delta=0.5)
        self.assertAlmostEqual(slips[-1].end, slip[-1], delta=0.5)
        # How much: what the wheels rolled beyond the true way.
        t = run.wheels.t
        inside = (t >= slips[0].begin) & (t <= slips[0].end)
        rolled = np.ptp(run.wheels.angles[inside].mean(axis=1)) * run.robot.drive.wheel_radius
        true = np.hypot(*np.diff(run.truth.at(t[inside])[:, :2], axis=0).T).sum()
        told = float(slips[0].evidence.split("turn ")[1].split(" m")[0])
        self.assertAlmostEqual(told, rolled - true, delta=0.15 * (rolled - true))


class Report(unittest.TestCase):
    def test_missing_streams_frames_and_what_is_not_told(self):
        run = dataclasses.replace(dry_run(), imu=None, wheels=None)
        health = check(run)
        self.assertIn("fuse", health.missing["wheels"])
        self.assertEqual(set(health.missing), {"wheels", "odometry", "imu", "position"})
        links = {link.child: link for link in health.frames}
        self.assertEqual(links["body"].provider, "laser odometry from scans")
        self.assertAlmostEqual(links["body"].rate, 10.0, delta=0.01)
        self.assertIsNone(links["track"].provider)
        self.assertIn("locate", links["track"].needed_for)
        self.assertTrue(any("mount" in text for text in health.untold))

    def test_faults_that_only_several_streams_can_tell(self):
        run, wheels, imu = dry_run(), dry_run().wheels, dry_run().imu
        for changed, finding in (
            (
                {"wheels": dataclasses.replace(wheels, angles=wheels.angles[:, ::-1].copy())},
                ("wheels", "left and right swapped"),
            ),
            ({"imu": dataclasses.replace(imu, turn_rate=-imu.turn_rate)}, ("imu", "turns the other way")),
            ({"imu": dataclasses.replace(imu, turn_rate=0.0 * imu.turn_rate)}, ("imu", "frozen readings")),
            ({"imu": dataclasses.replace(imu, t=1000.0 * imu.t)}, ("imu", "milliseconds taken for seconds")),
            (
                {"imu": dataclasses.replace(imu, t=np.full(len(imu.t), np.nan)), "as_recorded": True},
                ("imu", "stamps are not numbers"),
            ),
        ):
            with self.subTest(finding=finding):
                health = check(dataclasses.replace(run, **changed))
                self.assertEqual((health.findings[0].stream, health.findings[0].fault), finding)
                self.assertEqual(len(health.findings), 1, health.findings)

    def test_the_wheels_columns_are_explained_and_dirt_is_told(self):
        run, wheels = dry_run(), dry_run().wheels
        tick = 2.0 * np.pi / run.robot.wheels.ticks_per_turn
        counts = np.rint(wheels.angles / tick)
        rng, ranges = np.random.default_rng(1), run.scans.ranges.copy()
        dirty = rng.choice(433, 43, replace=False)
        ranges[:, dirty] = rng.uniform(0.12, 0.3, (len(ranges), 43))
        for told, changed in (
            ("the left wheel backwards", {"angles": wheels.angles * [-1.0, 1.0]}),
            ("both wheels backwards", {"angles": -wheels.angles}),
            ("counter of 12 bits begins anew", {"angles": np.mod(counts + 4000.0, 2.0**12) * tick}),
            ("counter of 16 bits begins anew", {"angles": np.mod(counts + 65000.0, 2.0**16) * tick}),
        ):
            with self.subTest(fault=told):
                findings = check(dataclasses.replace(run, wheels=dataclasses.replace(wheels, **changed))).findings
                self.assertEqual([finding.fault for finding in findings], [told])
        findings = check(dataclasses.replace(run, scans=Scans(run.scans.t, ranges))).findings
        self.assertEqual([finding.fault for finding in findings], ["dirt on the window"])

    def test_one_sample_and_two_streams_a_day_apart(self):
        run = dry_run()
        one = Imu(*(column[:1] for column in vars(run.imu).values()))
        self.assertEqual(check(dataclasses.replace(run, imu=one)).findings[0].fault, "a single reading")
        late = dataclasses.replace(run.imu, t=run.imu.t + 86400.0)
        health = check(dataclasses.replace(run, imu=late))
        self.assertEqual((health.verdict, health.findings[0].fault), ("broken", "another time"))


if __name__ == "__main__":
    unittest.main()
