"""How good studies are: ``python -m benchmarks.tuning_campaign PART`` with spoilt, unseen, kills or workers."""

from __future__ import annotations

import os
import random
import signal
import subprocess
import sys
import tempfile
import time
from collections.abc import Callable
from pathlib import Path

import numpy as np

from benchmarks.drive_sites import cellar, map_of
from vinecompass import (
    MissionCase,
    Settings,
    Site,
    StudyRun,
    Trial,
    demo_file,
    read_robot,
    read_site,
    read_study,
    write_map,
)
from vinecompass.navigation import Round
from vinecompass.settings import changed_settings
from vinecompass.tuning import Study, Vary, choose_settings, explain

SPOILT = (
    ("costs.contact_price", 50.0),
    ("costs.comfort", 0.05),
    ("following.cruise_speed", 0.1),
    ("window.horizon", 0.4),
    ("window.smoothness", 2.0),
)
"""Settings, each spoilt on its own: those that cost most among all at the ends of their ranges, or beyond."""
VARIED = ("costs.comfort", "window.clearance", "window.horizon", "following.tight_gap")
VARIED_IN_AISLES = ("costs.comfort", "window.clearance", "following.tight_speed", "following.tight_gap")
NARROW = (0.82, 0.95)
"""Metres of aisles that leave the body 10 to 16 cm on either side."""
UNSEEN = range(1000, 1012)
"""Seeds that no study sees."""
TRIALS, SEEDS = 64, 4
SHORT = 3.0
"""Seconds of the rehearsals that are killed."""


def case_in(site: Site, settings: Settings | None = None, time_limit: float = 120.0) -> MissionCase:
    """Return a drive to a stop of a made-up cellar."""
    robot = read_robot(demo_file("robot.toml"))
    the_round = Round.to_pose(site.stops[0].site_pose)
    return MissionCase(site, robot, map_of(site), the_round, settings or Settings(), time_limit=time_limit)


def searched(case: MissionCase, keys: tuple[str, ...]) -> Study:
    """Return the study of a search for the best values of some settings."""
    with tempfile.TemporaryDirectory() as folder, StudyRun(case, Path(folder) / "study", made_of={}) as study_run:
        varied = [Vary.parse(key) for key in keys]
        return choose_settings(study_run, varied, trials=TRIALS, seeds=SEEDS, design="search")


def costs(case: MissionCase, values: dict[str, float]) -> np.ndarray:
    """Return the cost of some values on seeds that no study saw."""
    bound = case.bound()
    return np.array([case.run(Trial(0, seed, values), bound).cost for seed in UNSEEN])


def spoilt() -> None:
    """Spoil one setting at a time, and search for it."""
    as_it_is = costs(case_in(cellar(1)), {}).mean()
    print(f"as it is: {as_it_is:.2f}")
    for key, value in SPOILT:
        case = case_in(cellar(1), changed_settings(Settings(), {key: value}))
        before, best = costs(case, {}).mean(), explain(searched(case, (key,)), SEEDS).best
        after = costs(case, best).mean()
        share = (before - after) / (before - as_it_is)
        print(
            f"{key} = {value:g}: {before:.2f}; found {best.get(key)}: {after:.2f}, {100.0 * share:.0f} % found back",
            flush=True,
        )


def unseen() -> None:
    """Search from the defaults in three sites with narrow aisles, and in three with wide ones and people."""
    jobs = [(f"narrow cellar {i}", case_in(cellar(i, people=0, aisles=NARROW)), VARIED_IN_AISLES) for i in (1, 2, 3)]
    jobs += [(f"cellar {i}", case_in(cellar(i)), VARIED) for i in (1, 2, 3)]
    for name, case, varied in jobs:
        said = explain(searched(case, varied), SEEDS)
        gains = costs(case, said.best) - costs(case, {})
        doubt = gains.std() / np.sqrt(len(gains))
        told = "better" if said.is_better else "no better"
        print(
            f"{name}: {gains.mean():+.3f} of the bound (+- {doubt:.3f}) with {said.best}, told to be {told}",
            flush=True,
        )


def kills() -> None:
    """Kill a worker, or the study, at a random moment, and let the same call go on."""
    draws = random.Random(0)
    with tempfile.TemporaryDirectory() as name:
        folder = Path(name)
        call = _short_study(folder)
        subprocess.run([*call, "-o", folder / "whole"], check=False, capture_output=True)
        wanted = (folder / "whole" / "trials.parquet").read_bytes()
        lost = same = 0
        for number in range(20):
            study = folder / f"study {number}"
            running = subprocess.Popen([*call, "-o", study], stdout=subprocess.DEVNULL, stderr=subprocess.DEVNULL)
            time.sleep(draws.uniform(2.0, 15.0))
            workers = subprocess.run(["pgrep", "-P", str(running.pid)], capture_output=True, text=True).stdout.split()
            whole = number % 2 == 0 or not workers
            for process in [running.pid] if whole else [int(draws.choice(workers))]:
                if running.poll() is None:
                    os.kill(process, signal.SIGKILL)
            if whole:
                subprocess.run(["kill", "-9", *workers], capture_output=True)
            running.wait()
            before = {trial.number for trial in read_study(study).trials} if (study / "study.toml").is_file() else set()
            subprocess.run([*call, "-o", study], check=False, capture_output=True)
            after = {trial.number for trial in read_study(study).trials}
            lost += len(before - after)
            same += (study / "trials.parquet").read_bytes() == wanted
            print(
                f"{number}: {'the study' if whole else 'a worker'} killed, {len(before)} trials were finished",
                flush=True,
            )
    print(f"{lost} finished trials lost; {same} of 20 studies end as the same bytes")


def workers() -> None:
    """Run the same trials with one worker and with two."""
    case = case_in(cellar(1), time_limit=30.0)
    trials = [Trial(number, number, {}) for number in range(24)]
    took = []
    for count in (1, 2):
        with (
            tempfile.TemporaryDirectory() as folder,
            StudyRun(case, Path(folder) / "study", made_of={}, workers=count) as study_run,
        ):
            study_run.run(trials[:count])
            begun = time.perf_counter()
            study = study_run.run(trials)
            took.append(time.perf_counter() - begun)
        driven = sum(score.time for score in study.scores)
        print(
            f"{count} workers: {len(trials)} rehearsals of {driven / len(trials):.0f} s in {took[-1]:.1f} s", flush=True
        )
    print(f"efficiency on two workers {took[0] / (2.0 * took[1]):.2f}")


def _short_study(folder: Path) -> list[str | Path]:
    """Return the call of a study of short rehearsals."""
    site = demo_file("site.toml")
    write_map(map_of(read_site(site)), folder / "map.png")
    command: list[str | Path] = [Path(sys.executable).parent / "vinecompass", "tune", site]
    command += ["--robot", demo_file("robot.toml"), "--map", folder / "map.png", "--to", "36.9,20,-90"]
    return [*command, "--vary", "costs.comfort", "--trials", "16", "--seeds", "2", "--time-limit", f"{SHORT:g}"]


PARTS: dict[str, Callable[[], None]] = {"spoilt": spoilt, "unseen": unseen, "kills": kills, "workers": workers}

if __name__ == "__main__":
    for part in sys.argv[1:] or PARTS:
        PARTS[part]()
