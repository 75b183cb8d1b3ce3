import dataclasses
import json
import unittest

import numpy as np

from tests.support import assert_input_error, new_folder, run, short_mapping, short_run
from vinecompass import Grid, LocalizationCase, MappingCase, Settings, Trial, localize, write_map, write_run
from vinecompass.fusion import usual_odometry
from vinecompass.tuning import StudyRun, Vary, choose_settings, explain, locate_run
from vinecompass.tuning.explain import compare_measures


class Localizing(unittest.TestCase):
    def test_a_trial_is_judged_by_the_truth_or_by_the_map_and_is_the_same_again(self):
        made = short_run()
        case = LocalizationCase(short_mapping().grid, (made,), (usual_odometry(made),), Settings())
        trial = Trial(0, 3, {"localization.most_particles": 800})
        result = case.run(trial, 1.0)
        self.assertEqual(result, case.run(trial, 1.0))
        # The same by hand: a start drawn by the seed, and the RMSE of all poses.
        start = made.start + np.random.default_rng(3).normal(0.0, [0.3, 0.3, np.radians(9.0)])
        found = localize(case.grid, made, start, odometry=case.odometry[0], seed=3)
        off = np.hypot(*(found.track.poses - made.truth.at(found.track.t))[:, :2].T)
        alike = case.run(Trial(1, 3, {}), 1.0)
        self.assertAlmostEqual(alike.cost, np.sqrt(np.mean(np.minimum(off, 1.0) ** 2)), places=9)
        self.assertAlmostEqual(alike.tracked, np.mean(found.states() == "tracking"), places=9)
        self.assertLess(result.particles, alike.particles + 1.0)
        blind = dataclasses.replace(case, runs=(dataclasses.replace(made, truth=None),)).run(trial, 1.0)
        self.assertTrue(np.isnan(blind.rmse))
        # Without a truth: how far hits lie from walls, 0.3 m where the pose was not tracked.
        self.assertLess(blind.misfit, 0.05)
        self.assertAlmostEqual(blind.cost, blind.tracked * blind.misfit + (1.0 - blind.tracked) * 0.3, delta=0.01)
        # A filter that takes the odometry for perfect, and beams for proof, is worse.
        rash = {"localization.distance_noise": 0.005, "localization.beam_trust": 1.0, "localization.start_spread": 0.05}
        careless = [
            case.run(Trial(0, seed, rash | {"localization.start_spread_deg": 2.0}), 1.0).cost for seed in (1, 3)
        ]
        careful = [case.run(Trial(0, seed, {}), 1.0).cost for seed in (1, 3)]
        self.assertGreater(sum(careless), sum(careful))

    def test_without_a_truth_no_setting_judges_itself(self):
        made = dataclasses.replace(short_run(), truth=None)
        odometry = usual_odometry(made)
        case = LocalizationCase(short_mapping().grid, (made,), (odometry,), Settings())
        maps = MappingCase((made,), (odometry,), Settings())
        for one, key in ((case, "localization.field_spread"), (maps, "mapping.field_spread")):
            with self.subTest(key):
                # With a wide field everything agrees better, by the field; what it does to the poses is a millimetre.
                narrow, wide = (one.run(Trial(0, 0, {key: spread}), 1.0).misfit for spread in (0.05, 0.2))
                self.assertLess(abs(wide - narrow), 0.002)
        beams = {"localization.beams": 40}
        with StudyRun(case, new_folder() / "study", made_of={}, workers=2) as study_run:
            study = study_run.run([Trial(2 * k + bool(one), k, one) for k in range(6) for one in ({}, beams)])
        self.assertTrue(np.isnan(study.scores[0].rmse))
        changes = compare_measures(study, beams)
        self.assertEqual(set(study.measures) - set(changes), {"rmse", "inside", "wrong"})
        self.assertEqual((changes["misfit"].pairs, changes["cost"].pairs), (6, 6))

    def test_a_run_that_does_not_say_where_it_begins_is_found(self):
        made, grid = short_run(), short_mapping().grid
        for start in (made.start, made.start + [0.0, -4.0, 1.5], [1e3, 0.0, 0.0]):
            untold = dataclasses.replace(made, start=np.array(start), truth=None)
            with self.subTest(start=start):
                found, located = locate_run(grid, untold, usual_odometry(untold))
                self.assertLess(np.hypot(*(found - made.start)[:2]), 0.15)
                off = located.track.poses - made.truth.at(located.track.t)
                self.assertLess(np.median(np.hypot(off[:, 0], off[:, 1])), 0.05)
        elsewhere = Grid(np.full((200, 200), -2.0, np.float32), 0.05, (0.0, 0.0))
        elsewhere.log_odds[0] = 2.0
        assert_input_error(self, lambda: locate_run(elsewhere, made, usual_odometry(made), "run"), "run", "--start")


class Mapping(unittest.TestCase):
    def test_runs_are_chosen_on_and_held_back(self):
        made = short_run()
        case = MappingCase((made,) * 5, (usual_odometry(made),) * 5, Settings())
        self.assertEqual(list(case.confirming(2)), [2, 3, 4])
        vary = [Vary.parse("mapping.cell_size=0.05..0.1")]
        with StudyRun(case, new_folder() / "study", made_of={}, workers=2) as study_run:
            study = choose_settings(study_run, vary, trials=6, seeds=2, design="grid")
            assert_input_error(
                self,
                lambda: choose_settings(study_run, [Vary.parse("window.heading")], trials=4, seeds=2),
                "window.heading",
                "mapping",
            )
        self.assertEqual((study.kind, len(study.tried())), ("mapping", 3))
        for result in study.scores:
            self.assertAlmostEqual(result.cost, result.relations + result.aligned)
        told = explain(study, 2)
        self.assertEqual(told.changes["cost"].pairs if told.best else 3, 3)


class OnTheCommandLine(unittest.TestCase):
    def test_the_localizer_and_the_mapper_are_tried_on_runs(self):
        folder = new_folder()
        made = short_run()
        write_run(made, folder / "run")
        write_map(short_mapping().grid, folder / "map.png")
        for inputs, key, measure in (
            ((folder / "map.png",), "localization.beams=40..90", "tracked"),
            ((), "mapping.hit_if_free=0.02..0.15", "thickness"),
        ):
            with self.subTest(key):
                study = folder / measure
                options = ("--vary", key, "--trials", 4, "--seeds", 1, "--want", f"{measure} >= 0.001", "-o", study)
                status, printed, error = run("tune", *inputs, "--run", folder / "run", *options, "--json")
                self.assertIn(status, (0, 1), error)
                self.assertEqual(json.loads(printed)["quality"]["sets_of_values"], 4)
                status, told, _ = run("tune", "--explain", study)
                self.assertIn("4 sets of values", told)
        status, _, error = run("tune", "--run", folder / "none", "--vary", "mapping.cell_size", "-o", folder / "x")
        self.assertEqual((status, error.count("\n")), (2, 1))


if __name__ == "__main__":
    unittest.main()
