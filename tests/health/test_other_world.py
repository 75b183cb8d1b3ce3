"""Faults in runs that our simulator did not make: see `benchmarks.other_world`, which shares no code with it."""

import unittest
from dataclasses import replace
from functools import cache

import numpy as np
from benchmarks.other_world.check_campaign import SPOILT
from benchmarks.other_world.places import PLACES
from benchmarks.other_world.recorder import draw_sensors, record

from vinecompass import check
from vinecompass.runs import rows_of


@cache
def aisles():
    """Some eighty metres up and down the aisles of a warehouse, where a robot hardly ever turns."""
    rng = np.random.default_rng(19)
    place = PLACES["warehouse"](rng)
    run = record(replace(place, way=place.way[:5]), draw_sensors("cheap", rng), np.random.default_rng(1))
    return replace(run, truth=None)


class InAisles(unittest.TestCase):
    def test_each_fault_is_named_first_and_none_on_a_clean_run(self):
        rng = np.random.default_rng(4)
        for name in (
            "",
            "dirt",
            "track width",
            "wheels backwards",
            "scan stamps in ms",
            "scans from another day",
        ):
            with self.subTest(name):
                run = SPOILT[name][2](aisles(), rng) if name else aisles()
                found = [(finding.stream, finding.fault) for finding in check(run).findings]
                told = [one for one in found if one[1] != "noise filed wrongly"]
                self.assertEqual(told[:1], [SPOILT[name][:2]] if name else [])

    def test_streams_that_end_early_and_wheels_that_stand_are_told(self):
        run = aisles()
        wheels, half = run.wheels, float(np.median(run.wheels.t))
        before = wheels.t < half
        stand = np.where(before[:, None], wheels.angles, wheels.angles[before][-1])
        for name, wrong in (
            ("ends early", rows_of(wheels, before)),
            ("begins late", rows_of(wheels, ~before)),
            ("stand while the robot moves", replace(wheels, angles=stand)),
            ("the right wheel stands", replace(wheels, angles=np.column_stack([wheels.angles[:, 0], stand[:, 1]]))),
        ):
            with self.subTest(name):
                found = check(replace(run, wheels=wrong)).findings[0]
                self.assertEqual((found.stream, found.fault), ("wheels", name))
                if name != "begins late":
                    self.assertAlmostEqual(found.begin, half, delta=2.0)


if __name__ == "__main__":
    unittest.main()
