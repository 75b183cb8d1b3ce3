import contextlib
import dataclasses
import json
import os
import shutil
import subprocess
import sys
import time
import unittest
from dataclasses import dataclass, field
from pathlib import Path
from unittest import mock

import numpy as np
from scipy.stats import kstest

from tests.support import assert_input_error, demo, new_folder, robot, run, short_mapping, site
from vinecompass import MissionCase, Settings, StudyRun, Trial, compare_values, read_study
from vinecompass.navigation import Round
from vinecompass.runs.tables import table_bytes
from vinecompass.settings import changed_settings, settings_text, tunable_settings
from vinecompass.tuning import (
    MissionScore,
    Study,
    Vary,
    Want,
    answer_wants,
    best_values,
    choose_settings,
    compare_settings,
    effects,
    explain,
    front,
    search_values,
    values_to_try,
    verdict,
)


def mission_score(cost, time, clearance):
    """The score of a mission that arrived."""
    counts = dict.fromkeys(("contacts", "interventions", "recoveries", "replans", "turns_about", "stops"), 0)
    return MissionScore(
        arrived=True,
        reason="",
        time=time,
        over_bound=cost,
        way=5.0,
        clearance=clearance,
        estimate_error=0.02,
        cost=cost,
        passed=json.dumps(["cellar door"] if cost > 1.9 else []),
        computing=time,
        **counts,
    )


def made_up(costs_by_values, seeds=range(4)):
    """A study whose costs are a function of the values and the seed."""
    trials, scores = [], []
    for values, cost_of in costs_by_values:
        for seed in seeds:
            cost = cost_of(seed)
            trials.append(Trial(len(trials), seed, values))
            scores.append(mission_score(cost, 10.0 * cost, 0.3 / cost))
    return Study("mission", {}, trials, scores)


@dataclass(frozen=True)
class MadeUpCase:
    """Costs that rise with a setting; with a path, the first worker that comes to the sixth trial dies of it."""

    dies: Path | None
    kind: str = "mission"
    settings: Settings = field(default_factory=Settings)

    def bound(self):
        return 10.0

    def confirming(self, seeds):
        return range(seeds, 2 * seeds)

    def run(self, trial, bound):
        if self.dies is not None and trial.number == 5 and not self.dies.exists():
            self.dies.touch()
            os._exit(1)
        cost = 0.8 + trial.values["costs.comfort"]
        return mission_score(round(cost, 6), cost * bound, 0.3)


@dataclass(frozen=True)
class NoisyCase(MadeUpCase):
    """Costs that lie by chance about 2, and rise with a setting beyond what the default is."""

    def run(self, trial, bound):
        noise = np.random.default_rng([trial.seed, len(trial.values)]).normal(0.0, 0.2)
        cost = 2.0 + noise + trial.values.get("costs.comfort", 0.6) - 0.6
        return mission_score(round(cost, 6), 10.0 * cost, 0.3)


@dataclass(frozen=True)
class SearchedCase(MadeUpCase):
    """Costs that are least for a comfort of 0.3 m; two trials kill the worker that comes to them first."""

    def confirming(self, seeds):
        return range(seeds, seeds + 7)

    def run(self, trial, bound):
        died = self.dies / f"died-{trial.number}"
        if trial.number in (2, 5) and not died.exists():
            died.touch()
            os._exit(1)
        cost = 1.0 + abs(trial.values.get("costs.comfort", 0.6) - 0.3) + 0.5 * (trial.seed >= 2)
        return mission_score(cost, cost * bound, 0.3)


@contextlib.contextmanager
def cluster(folder):
    """Yield the address of a scheduler with two worker processes."""
    told, python = folder / "scheduler.json", [sys.executable, "-m"]
    common = ["--scheduler-file", str(told), "--no-dashboard"]
    quiet = {"cwd": Path(__file__).parents[2], "stdout": subprocess.DEVNULL, "stderr": subprocess.DEVNULL}
    scheduler = [*python, "distributed.cli.dask_scheduler", "--host", "127.0.0.1", "--port", "0", *common]
    workers = [*python, "distributed.cli.dask_worker", "--nworkers", "2", "--nthreads", "1", *common]
    with contextlib.ExitStack() as running:
        for command in (scheduler, workers):
            process = running.enter_context(subprocess.Popen(command, **quiet))
            running.callback(process.terminate)
            while not told.exists():
                time.sleep(0.1)
        yield json.loads(told.read_text())["address"]


class WhatCanBeTuned(unittest.TestCase):
    def test_each_says_what_a_tuner_needs_and_refuses_what_is_far_beyond(self):
        settings = tunable_settings()
        self.assertGreater(len(settings), 100)
        for one in settings:
            with self.subTest(one.key):
                self.assertTrue(one.span.low <= one.default <= one.span.high or one.key == "following.cruise_speed")
                self.assertTrue(one.meaning and ", against " in one.span.trades)
                for value in (one.span.low, one.span.high):
                    value = round(value) if one.whole else value
                    table, name = one.key.split(".")
                    self.assertEqual(
                        getattr(getattr(changed_settings(Settings(), {one.key: value}), table), name), value
                    )
                far = round(10.5 * one.span.high) if one.whole else 10.5 * one.span.high
                assert_input_error(self, lambda: changed_settings(Settings(), {one.key: far}), one.key)  # noqa: B023
        assert_input_error(self, lambda: changed_settings(Settings(), {"cost.comfort": 1.0}), "costs.comfort")
        upside_down = {"localization.least_particles": 900, "localization.most_particles": 600}
        assert_input_error(self, lambda: changed_settings(Settings(), upside_down), "least_particles", "most_particles")


class Designs(unittest.TestCase):
    def test_what_is_tried_is_spread_as_told(self):
        comfort, clearance = Vary.parse("costs.comfort=0.2..1.0"), Vary.parse("window.clearance")
        grid = values_to_try([comfort, clearance], 10, design="grid")
        self.assertEqual((grid[0], len(grid)), ({}, 10))
        self.assertEqual(len({tuple(sorted(values.items())) for values in grid}), 10)
        alone = values_to_try([comfort, clearance], 7, design="one-by-one")[1:]
        self.assertEqual([len(values) for values in alone], [1] * 6)
        np.testing.assert_allclose([values["window.clearance"] for values in alone[3:]], [0.05, 0.5, 5.0])
        spread = values_to_try([comfort, clearance], 257, seed=3)[1:]
        by_factor = [np.log(values["window.clearance"] / 0.05) / np.log(100.0) for values in spread]
        self.assertGreater(kstest(by_factor, "uniform").pvalue, 0.99)
        self.assertEqual(spread, values_to_try([comfort, clearance], 257, seed=3)[1:])
        whole = values_to_try([Vary.parse("window.speeds=3..9")], 40)[1:]
        self.assertTrue(all(isinstance(values["window.speeds"], int) for values in whole))

    def test_wrong_ranges_are_named(self):
        for text, told in (
            ("cost.comfort", "costs.comfort"),
            ("costs.comfort=1..0.2", "upside down"),
            ("costs.comfort=0.2..9", "0.05..2"),
            ("costs.comfort=wide", "LOW..HIGH"),
        ):
            with self.subTest(text):
                assert_input_error(self, lambda: Vary.parse(text), told)  # noqa: B023
        comfort = Vary.parse("costs.comfort")
        for varied, count, design in (([], 9, "grid"), ([comfort, comfort], 9, "grid"), ([comfort], 2, "grid")):
            assert_input_error(self, lambda: values_to_try(varied, count, design=design))  # noqa: B023

    def test_a_search_comes_nearer_than_what_is_spread(self):
        varied = [Vary.parse("costs.comfort"), Vary.parse("window.clearance"), Vary.parse("following.tight_gap")]

        def costs_of(sets):
            return [
                sum(
                    abs(np.log(values.get(vary.setting.key, vary.setting.default) / (1.7 * vary.low)))
                    for vary in varied
                )
                for values in sets
            ]

        def each(sets):
            return [[cost] for cost in costs_of(sets)]

        found = [min(costs_of(search_values(varied, 80, each, seed=seed))) for seed in range(3)]
        spread = [min(costs_of(values_to_try(varied, 80, seed=seed))) for seed in range(3)]
        self.assertLess(np.mean(found), 0.8 * np.mean(spread))
        few = search_values([Vary.parse("band.alternatives=1..3")], 40, lambda sets: [[0.0]] * len(sets))
        self.assertLessEqual(len(few), 4)
        # A file that has spoilt a setting: what it was by default is tried at once, where it may be.
        for ranged, begun in (("0.1..2.0", [{}, {"costs.comfort": 0.6}]), ("0.1..0.3", [{}])):
            spoilt = Vary.parse(f"costs.comfort={ranged}")
            tried = search_values([spoilt], len(begun), each, as_they_are={"costs.comfort": 0.2})
            self.assertEqual(tried, begun)

    def test_a_search_with_two_objectives_gathers_where_neither_gains_without_the_other_losing(self):
        def comforts(sets):
            return np.array([values.get("costs.comfort", 0.6) for values in sets])

        def costs_of(sets):
            # Each is least at its own comfort: between the two is the front.
            return np.abs(np.log(comforts(sets)[:, None] / [0.3, 0.45])).tolist()

        tried = search_values([Vary.parse("costs.comfort=0.1..2.0")], 96, costs_of, objectives=2, seed=2)
        between = (comforts(tried) > 0.3) & (comforts(tried) < 0.45)
        self.assertGreater(np.mean(between[48:]), 2.0 * 0.15 / 1.9)
        scores = [(one, lambda seed, cost=cost[0]: cost) for one, cost in zip(tried, costs_of(tried), strict=True)]
        study = made_up(scores, range(2))
        clearances = {json.dumps(one): 1.0 - cost[1] for one, cost in zip(tried, costs_of(tried), strict=True)}
        judged = [
            dataclasses.replace(score, clearance=clearances[json.dumps(trial.values)])
            for trial, score in zip(study.trials, study.scores, strict=True)
        ]
        found = front(Study("mission", {}, study.trials, judged), ["cost", "clearance"])
        costs = dict(zip(comforts(tried), costs_of(tried), strict=True))
        beaten = [c for c, (a, b) in costs.items() for x, y in costs.values() if x <= a and y <= b and (x < a or y < b)]
        self.assertEqual(set(comforts(found)), set(costs) - set(beaten))
        self.assertEqual(comforts(found[:1]), min(costs, key=lambda comfort: costs[comfort][0]))


class Answers(unittest.TestCase):
    def test_the_interval_of_a_difference_holds_the_truth_as_often_as_it_says(self):
        rng, held, said = np.random.default_rng(2), 0, 0
        for _ in range(120):
            of_seed = rng.normal(0.0, 5.0, 20)
            first = dict(enumerate(of_seed))
            second = dict(enumerate(of_seed + rng.normal(0.3, 1.0, 20)))
            found = compare_values(first, second)
            held += found.low <= 0.3 <= found.high
            said += compare_values(first, dict(enumerate(of_seed + rng.normal(0.0, 1.0, 20)))).is_told
        self.assertTrue(0.86 < held / 120 <= 1.0)
        self.assertLess(said / 120, 0.14)
        # Of a few seeds chance is no more often told than of many.
        few = np.random.default_rng(3).normal(0.0, 1.0, (150, 6))
        told = [compare_values(dict.fromkeys(range(6), 0.0), dict(enumerate(row))).is_told for row in few]
        self.assertLess(np.mean(told), 0.1)
        same = compare_values(dict.fromkeys(range(6), 2.0), dict.fromkeys(range(6), 2.0))
        self.assertEqual((same.is_told, same.more), (False, None))
        self.assertIn("no difference seen", str(same))
        self.assertIn("too few", str(compare_values({1: 2.0, 2: 3.0}, {1: 1.0, 2: 1.9})))
        assert_input_error(self, lambda: compare_values({1: 2.0}, {2: 2.0}), "seed")

    def test_what_matters_is_told_and_confirmed_on_other_seeds(self):
        rng = np.random.default_rng(1)
        noise = rng.normal(0.0, 0.05, 20)
        sets = [{}] + [{"costs.comfort": c, "window.heading": h} for c in (0.2, 0.5, 1.0) for h in (0.1, 0.5, 2.0)]
        study = made_up(
            [(values, lambda seed, v=values: 1.5 + v.get("costs.comfort", 0.6) + noise[seed]) for values in sets],
            range(12),
        )
        found = explain(study, 4)
        self.assertEqual((found.best["costs.comfort"], found.is_better, found.tried), (0.2, True, 10))
        self.assertAlmostEqual(found.changes["cost"].difference, -0.4, delta=1e-9)
        self.assertEqual(found.changes["cost"].pairs, 8)
        self.assertEqual([effect.key for effect in effects(study)], ["costs.comfort", "window.heading"])
        self.assertGreater(found.effects[0].rank_correlation, 0.9)
        self.assertLess(abs(found.effects[1].rank_correlation), 0.2)
        # Where the seeds do not tell two apart, the one nearer to the default is taken; not what fails on one of them.
        near, far = {"costs.comfort": 0.7}, {"costs.comfort": 1.9}
        for fails, taken in ((0.0, near), (8.0, far)):
            costs = [({}, lambda seed: 2.0), (far, lambda seed: 1.0 + noise[seed])]
            costs.append((near, lambda seed, fails=fails: 1.01 + noise[-seed] + fails * (seed == 2)))
            self.assertEqual(best_values(made_up(costs, range(4))), taken)
        # A search goes on to harder seeds with what does well only: that must not make it look dear.
        harder = made_up(
            [(one, lambda seed, v=one: 1.0 + v["costs.comfort"] + 9.0 * (seed > 3)) for one in sets[1:]], range(8)
        )
        left = [i for i, trial in enumerate(harder.trials) if trial.seed < 4 or trial.values["costs.comfort"] < 0.3]
        uneven = Study("mission", {}, [harder.trials[i] for i in left], [harder.scores[i] for i in left])
        self.assertGreater(effects(uneven)[0].rank_correlation, 0.9)
        quick, roomy = Want.parse("time <= 18"), Want.parse("clearance >= 0.15")
        slow = Want.parse("time >= 24")
        answer = answer_wants(study.on_seeds(0, 4), [quick, roomy, slow])
        self.assertEqual(answer.all_met, [])
        self.assertIn((quick, slow), answer.exclude)
        self.assertIn((roomy, slow), answer.exclude)
        door = Want.parse("passes 'cellar door'")
        self.assertEqual(answer_wants(study.on_seeds(0, 4), [door]).alone, [7])
        self.assertEqual(answer_wants(study.on_seeds(0, 4), [door, quick]).exclude, [(door, quick)])
        both = answer_wants(study.on_seeds(0, 4), [quick])
        self.assertEqual({values["costs.comfort"] for values in both.all_met}, {0.2})
        assert_input_error(self, lambda: Want.parse("speed > 3"), "clearance")

    def test_two_settings_are_compared_until_the_answer_stands_and_chance_is_none(self):
        def compared(values, name, trials=128):
            with StudyRun(NoisyCase(None), scratch / name, made_of={}, workers=1) as study_run:
                return verdict(compare_settings(study_run, values, trials=trials), trials)

        scratch = new_folder()
        for name, values, word, most in (
            ("better", {"costs.comfort": 0.2, "planning.method": "a-star"}, "better", 16),
            ("worse", {"costs.comfort": 1.2}, "worse", 16),
            ("chance", {"window.clearance": 1.0}, "open", 64),
        ):
            with self.subTest(name):
                found = compared(values, name)
                self.assertEqual(found.word, word)
                self.assertLessEqual(found.changes["cost"].pairs, most)
        alike = made_up(
            [({}, lambda seed: 2.0), ({"costs.comfort": 0.5}, lambda seed: 2.0 + 0.01 * (-1) ** seed)], range(8)
        )
        self.assertEqual(verdict(alike, 64).word, "alike")
        for values, trials, told in (
            ({}, 64, "same"),
            ({"costs.comfort": 0.2}, 8, "12"),
            ({"cost.fall": 1}, 64, "costs.fall"),
        ):
            assert_input_error(self, lambda v=values, t=trials: compared(v, "bad", t), told)

    def test_what_is_good_in_one_of_several_sites_only_is_not_good(self):
        def by_site(first, second, noise=0.01):
            return lambda seed: (second if seed % 2 else first) + noise * np.sin(7.0 * seed)

        one, both = {"costs.comfort": 0.3}, {"costs.comfort": 0.5}
        costs = [({}, by_site(1.4, 1.5)), (one, by_site(0.9, 1.6)), (both, by_site(1.3, 1.4))]
        whole = made_up(costs, range(16))
        study = Study("mission", {"sites": json.dumps(["cellar", "loft"])}, whole.trials, whole.scores)
        said = explain(study, 4)
        self.assertEqual((said.best, said.is_better), (both, True))
        self.assertEqual({name: one.pairs for name, one in said.in_sites.items()}, {"cellar": 6, "loft": 6})
        # On the seeds that chose it did well in both, on those that confirm it is worse in one.
        costs[1] = (one, lambda seed: 0.9 if seed < 4 or seed % 2 == 0 else 1.6 + 0.01 * np.sin(seed))
        whole = made_up(costs, range(16))
        said = explain(Study("mission", study.made_of, whole.trials, whole.scores), 4)
        self.assertEqual((said.best, said.is_better), (one, False))
        self.assertGreater(said.in_sites["loft"].difference, 0.05)


class Studies(unittest.TestCase):
    def test_it_is_the_same_to_the_byte_however_it_was_run_and_goes_on_where_it_was_stopped(self):
        empty = site().model_copy(update={"people": []})
        x, y, heading = empty.start_pose
        goal = Round.to_pose([x, y - 1.5, heading])
        case = MissionCase(empty, robot(), short_mapping().grid, goal, Settings(), time_limit=12.0)
        sets = values_to_try([Vary.parse("window.clearance")], 3)
        trials = [Trial(k, k % 2, sets[k // 2]) for k in range(6)]
        tables = {}
        for workers in (1, 2):
            folder = new_folder() / "study"
            with StudyRun(case, folder, made_of={"of": "room"}, workers=workers) as begun:
                begun.run(trials[:3])
            for part in sorted((folder / "parts").iterdir())[: workers - 1]:
                part.unlink()  # As if it had been stopped before that one was finished.
            with StudyRun(case, folder, made_of={"of": "room"}, workers=workers) as again:
                study = again.run(trials)
            tables[workers] = (folder / "trials.parquet").read_bytes()
        self.assertEqual(tables[1], tables[2])
        self.assertEqual(read_study(folder), study)
        self.assertEqual([trial.number for trial in study.trials], list(range(6)))
        for result in study.scores:
            self.assertTrue(result.arrived, result.reason)
            self.assertTrue(result.over_bound > 1.0 and result.way > 1.4)
            self.assertTrue(0.1 < result.clearance < 3.0)
            self.assertEqual((result.contacts, result.cost), (0, result.over_bound))
        assert_input_error(self, lambda: StudyRun(case, folder, made_of={"of": "hall"}), "of", "room")
        with StudyRun(case, folder, made_of={"of": "room"}) as again:
            assert_input_error(self, lambda: again.run([Trial(3, 9, {})]), "000003.parquet", "seed 1", "seed 9")
        (folder / "parts" / "000003.parquet").write_bytes(table_bytes({"number": [3], "seed": [None]}, "parquet"))
        assert_input_error(self, lambda: read_study(folder), "000003.parquet", "damaged")
        (new := new_folder() / "notes").mkdir()
        (new / "notes.txt").write_text("mine")
        assert_input_error(self, lambda: StudyRun(case, new, made_of={}), "study.toml")
        assert_input_error(self, lambda: read_study(new), "holds no study")

    def test_a_search_that_is_called_again_asks_for_the_same_and_dead_workers_lose_nothing(self):
        scratch = new_folder()
        case, folder, found, tried = SearchedCase(scratch), scratch / "study", [], []

        def search(*given, **options):
            tried.append(search_values(*given, **options))
            return tried[-1]

        with mock.patch("vinecompass.tuning.choosing.search_values", search):
            for _ in range(2):
                with StudyRun(case, folder, made_of={}, workers=2) as study_run:
                    found.append(
                        choose_settings(
                            study_run, [Vary.parse("costs.comfort")], trials=60, seeds=2, design="search", seed=3
                        )
                    )
        self.assertEqual(found[0], found[1])
        self.assertEqual(tried[0], tried[1])
        self.assertEqual(read_study(folder), found[0])
        self.assertEqual([path.name for path in sorted(scratch.glob("died-*"))], ["died-2", "died-5"])
        # What does badly on the first seed is not tried on the second, and is none of the best.
        early = found[0].on_seeds(0, 2)
        stopped = [values for values in early.tried() if values not in early.tried_on_all_seeds()]
        self.assertGreater(len(stopped), 3)
        whole = [max(early.of(values).values()) for values in early.tried_on_all_seeds()]
        self.assertGreater(min(min(early.of(values).values()) for values in stopped), min(whole))
        best = explain(found[0], 2)
        self.assertAlmostEqual(best.best["costs.comfort"], 0.3, delta=0.05)
        self.assertTrue(best.is_better)
        self.assertEqual(best.changes["cost"].pairs, 7)

    def test_a_cluster_gives_the_same_bytes_and_a_worker_that_dies_loses_nothing(self):
        scratch = new_folder()
        costs = {0.2: 1.0, 0.4: 1.2, 0.6: 1.4}
        trials = [
            Trial(k, k % 4, {"costs.comfort": value}) for k, value in enumerate(np.repeat(list(costs), 4).tolist())
        ]
        with cluster(scratch) as address:
            for where, options in (("cluster", {"cluster": address}), ("here", {"workers": 1})):
                case = MadeUpCase(scratch / f"died-{where}" if where == "cluster" else None)
                with StudyRun(case, scratch / where, made_of={}, **options) as study_run:
                    study = study_run.run(trials)
            self.assertTrue((scratch / "died-cluster").exists())
        tables = [(scratch / where / "trials.parquet").read_bytes() for where in ("cluster", "here")]
        self.assertEqual(tables[0], tables[1])
        self.assertEqual([score.cost for score in study.scores], np.repeat(list(costs.values()), 4).tolist())
        with mock.patch("vinecompass.tuning.workers.ANSWERS_WITHIN", 0.5):
            gone = lambda: StudyRun(MadeUpCase(None), scratch / "x", made_of={}, cluster=address)  # noqa: E731
            assert_input_error(self, gone, "cluster", address, "does not answer")
        nowhere = lambda: StudyRun(MadeUpCase(None), scratch / "y", made_of={}, cluster="nowhere")  # noqa: E731
        assert_input_error(self, nowhere, "cluster", "nowhere", "tcp://host:8786")

    def test_the_command_lists_tries_draws_and_names_what_is_wrong(self):
        status, printed, _ = run("tune", "--list", "--json")
        self.assertEqual((status, json.loads(printed)["quality"]["costs.comfort"]["again"]), (0, "price"))
        data, out = demo()[0], new_folder()
        given = [
            data / "site.toml",
            "--robot",
            data / "robot.toml",
            "--map",
            data / "cellar.png",
            "--to",
            "36.9,22.5,-90",
        ]
        study = ("--vary", "following.tight_speed=0.05..0.1", "--trials", 5, "--seeds", 1, "-o", out / "study")
        status, printed, error = run("tune", *given, *study, "--picture", out / "study.png", "--json")
        result = json.loads(printed)
        self.assertIn(status, (0, 1), error)
        self.assertEqual(result["quality"]["sets_of_values"], 5)
        self.assertEqual((out / "study.png").read_bytes()[:4], b"\x89PNG")
        status, told, _ = run("tune", "--explain", out / "study", "--want", "time <= 60", "--want", "contacts >= 1")
        for words in ("rank correlation", "time <= 60: with 5 of 5", "none of what was tried"):
            self.assertIn(words, told)
        status, told, _ = run(
            "tune", "--explain", out / "study", "--want", "passes 'wet floor'", "--want", "time <= 60"
        )
        for words in ("passes 'wet floor': with 0 of 5", "passed were: dock"):
            self.assertIn(words, told)
        told = run("tune", "--explain", out / "study", "--objective", "time", "--objective", "clearance")[1]
        self.assertIn("the front of time and clearance", told)
        status, printed, error = run("tune", *given, *study, "--replay", 2, "--json")
        page = Path(json.loads(printed)["files"]["page"])
        self.assertEqual((page.name, page.parent.parent), ("trial-000002.html", out / "study"))
        self.assertIn("trial 2", page.read_text())
        (out / "slow.toml").write_text(settings_text({"following.cruise_speed": 0.3, "planning.method": "roadmap"}))
        against = ("--against", out / "slow.toml", "--trials", 12, "-o", out / "against")
        status, printed, error = run("tune", *given, *against, "--picture", out / "against.png", "--json")
        self.assertEqual((status, json.loads(printed)["quality"]["word"]), (1, "worse"), error)
        status, told, _ = run("tune", "--explain", out / "against")
        for words in ("slow.toml is worse", "6 seeds", "planning.method = roadmap"):
            self.assertIn(words, told)
        for name in ("cellar", "loft"):
            (out / "sites" / name).mkdir(parents=True)
            for ours, theirs in (("site.toml", "site.toml"), ("cellar.png", "map.png"), ("cellar.toml", "map.toml")):
                shutil.copy(data / ours, out / "sites" / name / theirs)
        sites = (out / "sites", "--robot", data / "robot.toml", "--to", "36.9,22.5,-90")
        varied = ("--vary", "following.tight_speed=0.05..0.1", "--trials", 4, "-o", out / "both")
        status, printed, error = run("tune", *sites, *varied, "--seeds", 2, "--json")
        self.assertIn(status, (0, 1), error)
        seeds = {trial.seed for trial in read_study(out / "both").trials}
        self.assertEqual(read_study(out / "both").sites, ["cellar", "loft"])
        self.assertLessEqual({0, 1}, seeds)
        for words, named in (
            ((*sites, *varied, "--seeds", 3), ["--seeds", "2 sites: 4"]),
            ((*sites, *varied, "--seeds", 2, "--map", data / "cellar.png"), ["--map", "map.png in each"]),
            ((data / "recording", *sites[1:], *varied), ["holds no sites"]),
            ((*given, "-o", out / "x"), ["--vary"]),
            ((*given, "--vary", "mapping.cell_size", "-o", out / "x"), ["mapping.cell_size", "map"]),
            (given[:1], ["--robot"]),
            ((*given, "--vary", "costs.comfort", *against), ["--vary", "--against"]),
            ((*given, *against[:3], 8, "-o", out / "x"), ["trials", "12"]),
            (("--explain", out), ["holds no study"]),
            ((*given, *study, "--replay", 99), ["--replay", "99", "0 to"]),
            ((*given, "--vary", "costs.comfort", "--trials", 5, "--seeds", 1, "-o", out / "study"), ["vary", "study"]),
        ):
            status, _, error = run("tune", *words)
            self.assertEqual((status, error.count("\n")), (2, 1), error)
            for word in named:
                self.assertIn(word, error)


if __name__ == "__main__":
    unittest.main()
