"""What faults of a run cost its fused track, and whether that is told: the runs that `check_campaign` spoils."""

from __future__ import annotations

from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass

import numpy as np

from benchmarks.other_world.check_campaign import RUNS, SPOILT, recorded
from benchmarks.other_world.record_campaign import place_and_run
from vinecompass import compare_tracks, fuse
from vinecompass.errors import InputError

__all__ = ["campaign"]

WORSE, BY = 2.0, 0.2
"""Times the error of the run as it was, and metres besides, beyond which a fault costs something."""


@dataclass(frozen=True)
class _Outcome:
    """How far a track is off at most, m, `nan` if it was refused; and what was said: doubts, notes, or the refusal."""

    worst: float
    told: str


def campaign(count: int, jobs: int | None) -> None:
    """Fuse so many of the runs with each fault, and say what that cost, and what was said."""
    cases = [(number, name) for name in ("", *SPOILT) for number in RUNS[:count]]
    silent, clean = 0, {}
    with ProcessPoolExecutor(jobs) as pool:
        for (number, name), outcome in zip(cases, pool.map(_fused, *zip(*cases, strict=True)), strict=True):
            if not name:
                clean[number] = outcome.worst
            costs = outcome.worst > WORSE * clean[number] + BY
            silent += costs and not outcome.told
            if costs or outcome.told or not name:
                print(f"{number:3d} {name or 'clean'}: {outcome.worst:.2f} m; {outcome.told or 'nothing'}", flush=True)
    print(f"{silent} of {len(cases)} cost something, and nothing is said")


def _fused(number: int, name: str) -> _Outcome:
    """Return what comes of fusing a run with a fault."""
    run = recorded(number)
    if name:
        run = SPOILT[name][2](run, np.random.default_rng(number))
    try:
        fused = fuse(run)
    except InputError as error:
        return _Outcome(float("nan"), f"refused: {error}")
    truth = place_and_run(number)[1].truth
    assert truth is not None
    off = compare_tracks(fused.track, truth).position
    return _Outcome(float(off.max()), "; ".join((*fused.doubts, *fused.notes)))
