"""A quick share of what `python -m benchmarks.robustness` throws at files, writers, commands and calls."""

import contextlib
import inspect
import unittest

import numpy as np
from benchmarks.robustness.calls import good_calls, try_calls
from benchmarks.robustness.commands import LINES, try_outputs, try_values
from benchmarks.robustness.kills import try_kills, try_two_at_once, writers
from benchmarks.robustness.mutations import try_mutations
from benchmarks.robustness.originals import make_originals

import vinecompass
from tests.support import new_folder
from vinecompass.cli import cli

QUICK = ("simulate", "import run", "import map", "edit", "judge", "price", "plan")
FILES = (
    "read_settings read_robot read_map_record read_zones read_site read_round grid_from_picture import_run "
    "guess_format read_floor_plan"
)
OF_THINGS_CHECKED = (
    "estimate_mount rehearse warm_up compare_settings play_of_mapping play_of_mission record_live run_live"
)
TRIED = (
    "Grid Run Track Walking clearance grid_from_polygons price_floor plan_path CostToGo DubinsMotion write_run "
    "write_map write_plan dead_reckon compare_tracks Simulator ParticleLocalizer find_narrow_places "
    "draw play_of_run write_replay"
)


class WhateverIsThrownAtIt(unittest.TestCase):
    def test_spoiled_files_are_read_or_refused_in_one_line(self):
        folder = new_folder()
        originals = make_originals(folder)
        self.assertEqual(list(try_mutations(originals, folder, range(100_000, 100_500))), [])

    def test_killed_writers_leave_whole_files_and_of_two_the_last_ones(self):
        for number, writer in enumerate(writers()):
            if writer.name == "figure":
                continue  # It takes a second to draw.
            with self.subTest(writer.name):
                self.assertEqual(try_kills(writer, 4, np.random.default_rng(100 + number)), [])
                self.assertEqual(try_two_at_once(writer, 2), [])

    def test_options_and_outputs_without_sense_end_in_one_line(self):
        self.assertEqual(set(cli.commands) - {"compile"}, {name.split()[0] for name in LINES})
        folder = new_folder()
        with contextlib.chdir(folder):
            make_originals(folder)
            for tried, least, fallen in (
                ("values", 100, try_values(("nan", "", "1e300", "a/b"), QUICK)),
                ("outputs", 40, try_outputs(QUICK)),
            ):
                with self.subTest(tried):
                    self.assertGreater(fallen[0], least)
                    self.assertEqual(fallen[1], [])

    def test_arguments_of_another_kind_are_refused_by_name(self):
        functions = {name for name in vinecompass.__all__ if inspect.isfunction(getattr(vinecompass, name))}
        self.assertEqual(functions - set(good_calls(new_folder())), {*FILES.split(), *OF_THINGS_CHECKED.split()})
        count, fallen = try_calls(tuple(TRIED.split()))
        self.assertGreater(count, 500)
        self.assertEqual(fallen, [])


if __name__ == "__main__":
    unittest.main()
