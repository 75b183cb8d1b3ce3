"""Faults in runs that our simulator did not make: see `benchmarks.other_world`, which shares no code with it."""

import unittest
from dataclasses import replace
from functools import cache

import numpy as np
from benchmarks.other_world.check_campaign import SPOILT
from benchmarks.other_world.places import PLACES
from benchmarks.other_world.recorder import draw_sensors, record

from vinecompass import check


@cache
def aisles():
    """Some eighty metres up and down the aisles of a warehouse, where a robot hardly ever turns."""
    rng = np.random.default_rng(19)
    place = PLACES["warehouse"](rng)
    run = record(replace(place, way=place.way[:5]), draw_sensors("cheap", rng), np.random.default_rng(1))
    return replace(run, truth=None, as_recorded=True)


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
            "wheels in bundles",
            "clock set back",
            "wheels end",
            "both encoders dead",
            "left encoder dead",
        ):
            with self.subTest(name):
                run = SPOILT[name][2](aisles(), rng) if name else aisles()
                found = [(finding.stream, finding.fault) for finding in check(run).findings]
                told = [one for one in found if one[1] != "noise filed wrongly"]
                self.assertEqual(told[:1], [SPOILT[name][:2]] if name else [])


if __name__ == "__main__":
    unittest.main()
