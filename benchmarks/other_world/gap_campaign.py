"""Maps of runs in which no scan shows a part of the way: how far off the rest of them lies."""

from __future__ import annotations

from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from itertools import product

import numpy as np

from benchmarks.other_world.record_campaign import place_and_run
from vinecompass import Track, build_map, compare_relations
from vinecompass.fusion import usual_odometry
from vinecompass.geometry import chain, relative

__all__ = ["campaign"]

GAP = 20.0
"""Seconds that the scanner shows nothing."""
BEGINS = (0.3, 0.55)
"""Shares of the run after which it does."""
ASTRAY = ((0.0, 1.0), (60.0, 1.1))
"""What the odometry turns too much over the gap, degrees, and times the true way that it tells."""
RIGHT = 0.1
"""Metres (RMSE, aligned) up to which a map counts as right."""


def gap_error(number: int, begins: float, turned_deg: float, scale: float) -> float:
    """Return how far off the mapped track lies, once aligned, where scans show it, m."""
    _, run = place_and_run(number)
    assert run.scans is not None and run.truth is not None
    odometry = usual_odometry(run)
    begin = begins * run.scans.t[-1]
    steps = relative(odometry.poses[1:], odometry.poses[:-1])
    away = (odometry.t[1:] > begin) & (odometry.t[1:] < begin + GAP)
    steps[away] = steps[away] * [scale, scale, 1.0] + [0.0, 0.0, np.radians(turned_deg) / away.sum()]
    hidden = (run.scans.t > begin) & (run.scans.t < begin + GAP)
    scans = replace(run.scans, ranges=np.where(hidden[:, None], np.float32(np.nan), run.scans.ranges))
    mapping = build_map(replace(run, scans=scans), odometry=Track(odometry.t, chain(odometry.poses[0], steps)))
    shown = (mapping.track.t < begin) | (mapping.track.t > begin + GAP)
    return compare_relations(Track(mapping.track.t[shown], mapping.track.poses[shown]), run.truth).aligned_rmse


def campaign(count: int, jobs: int | None) -> None:
    """Map so many runs, each with a gap early and late, and print how far off each map lies."""
    for turned, scale in ASTRAY:
        cases = list(product(range(count), BEGINS))
        with ProcessPoolExecutor(jobs) as pool:
            tasks = [pool.submit(gap_error, number, begins, turned, scale) for number, begins in cases]
            errors = [task.result() for task in tasks]
        for (number, begins), error in zip(cases, errors, strict=True):
            print(f"{number:3d} from {100.0 * begins:.0f} % on, odometry {turned:.0f} degrees off: {error:.3f} m")
        right = [error for error in errors if error < RIGHT]
        print(
            f"odometry {turned:.0f} degrees off: {len(right)} of {len(errors)} within {RIGHT:g} m, "
            f"median of these {np.median(right):.3f} m; worst of all {max(errors):.3f} m",
            flush=True,
        )
