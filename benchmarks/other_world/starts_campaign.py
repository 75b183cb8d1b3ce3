"""Where a robot that may be anywhere finds itself, in corridors and in places that look alike turned by half."""

from __future__ import annotations

from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass, replace
from functools import cache

import numpy as np

from benchmarks.other_world.record_campaign import place_and_run, wrongly_tracked
from vinecompass import Grid, Run, Track, build_map, compare_tracks, localize
from vinecompass.fusion import usual_odometry
from vinecompass.runs import rows_of

__all__ = ["campaign"]

CORRIDORS, ALIKE_TURNED = (1, 6, 11, 16), (0, 5, 10, 15)
"""Numbers of the runs, one of each kind of robot: in the plain corridor, and in the ring of corridors."""
SECONDS = 75.0
"""Of each start."""
WITHIN = 15.0
"""Metres of driving in which it should have settled, or say that it has not."""


@dataclass(frozen=True)
class _Start:
    """What came of a start.

    Metres until it settled; seconds for which it says so and is wrong, and for which it calls itself lost where it had
    tracked rightly and still is right.
    """

    number: int
    seed: int
    settled_after: float
    wrong: float
    lost_while_right: float
    farthest_off: float


@cache
def _mapped(number: int) -> tuple[Grid, Run, Track]:
    """Return the map that a first drive made, and a second drive with its odometry."""
    _, first = place_and_run(number)
    _, second = place_and_run(number, drive=1)
    return build_map(first).grid, second, usual_odometry(second)


def _started(number: int, seed: int) -> _Start:
    """Localize a part of the second drive that begins anywhere."""
    grid, run, odometry = _mapped(number)
    assert run.truth is not None
    t = run.scan_stamps()
    begin = np.random.default_rng(seed).uniform(t[0], t[-1] - SECONDS)
    part = replace(run, scans=rows_of(run.need_scans(), (t >= begin) & (t < begin + SECONDS)))
    found = localize(grid, part, None, odometry=odometry, seed=seed)
    off = compare_tracks(found.track, run.truth).position
    states, period = found.states(), float(np.median(np.diff(t)))
    tracks = states == "tracking"
    return _Start(
        number,
        seed,
        found.settled_after,
        period * float(np.sum(wrongly_tracked(found, off))),
        period * float(np.sum((states == "lost") & (off < 0.3) & np.logical_or.accumulate(tracks & (off < 0.3)))),
        float(off[tracks].max(initial=0.0)),
    )


def campaign(count: int, jobs: int | None) -> None:
    """Start so many times in each place with each robot, and say what came of it."""
    for place, numbers in (("corridor", CORRIDORS), ("ring", ALIKE_TURNED)):
        # One process keeps to one robot: each makes its map once.
        starts = []
        with ProcessPoolExecutor(jobs) as pool:
            for found in pool.map(_all_of, numbers, [count] * len(numbers)):
                starts += found
                for one in found:
                    if one.wrong > 0.0 or one.lost_while_right > 0.0:
                        print(f"  {one}", flush=True)
        after = np.array([one.settled_after for one in starts])
        print(
            f"{place}: {len(starts)} starts, {np.sum(np.isfinite(after))} settled, {np.sum(after < WITHIN)} within "
            f"{WITHIN:.0f} m (median {np.median(after):.1f} m); tracking where it is wrong in "
            f"{sum(one.wrong > 0.0 for one in starts)}, lost while right in "
            f"{sum(one.lost_while_right > 0.0 for one in starts)}",
            flush=True,
        )


def _all_of(number: int, count: int) -> list[_Start]:
    return [_started(number, seed) for seed in range(count)]
