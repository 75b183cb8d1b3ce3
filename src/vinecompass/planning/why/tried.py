"""Planning again with something changed, to see whether there is a way."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import wrap_angle
from vinecompass.planning.methods import find_way, usual_method
from vinecompass.planning.problem import Problem, Way
from vinecompass.planning.search.grid_search import GridSearch
from vinecompass.settings import PlanSettings

__all__ = ["nearest_fitting", "nearest_within_reach", "try_again"]

FloatArray = NDArray[np.float64]
COARSE_CELL, COARSE_HEADINGS, HASTE = 0.15, 16, 2.0
"""Of the lattice by which it is tried: any way will do, and there is no time for more."""
HEADINGS = np.linspace(0.0, 2.0 * np.pi, 8, endpoint=False)
"""That are tried, from the one asked for."""
AT_ONCE, MOST_LOOKED_AT = 2000, 40_000
"""Cells whose poses are checked at once, and in all."""
MOST_TRIED, TRIED_APART = 8, 0.15
"""Poses to which a way is looked for, the nearest first, and metres between them, more each time it is in vain."""


def try_again(problem: Problem, settings: PlanSettings) -> Way:
    """Return a way that the whole body can drive, on lines or else on arcs; without poses if none is found."""
    s = settings.model_copy(
        update={"lattice_cell": COARSE_CELL, "lattice_headings": COARSE_HEADINGS, "lattice_haste": HASTE}
    )
    if not problem.turns_on_the_spot:
        return find_way(problem, "lattice", s, 0)
    by_lines = find_way(problem, "a-star", s, 0)
    return by_lines if len(by_lines.poses) or by_lines.exhausted else find_way(problem, "lattice", s, 0)


def nearest_fitting(problem: Problem, pose: FloatArray) -> FloatArray | None:
    """Return the pose nearest to another at which the body fits, at its heading, or else at any of seven others."""
    open_cells = np.isfinite(problem.costmap.prices)
    return next((poses[0] for poses in _fitting(problem, pose, open_cells) if len(poses)), None)


def nearest_within_reach(problem: Problem, settings: PlanSettings, pose: FloatArray) -> FloatArray | None:
    """Return a pose near another at which the body fits and to which a way is found, or None.

    At its heading, or else at any of seven others; the nearest of the poses tried.
    """
    search = GridSearch(problem.costmap.prices, problem.ends[0], problem.costmap.one_way)
    search.grow()
    method = usual_method(problem.turns_on_the_spot)
    for poses in _fitting(problem, pose, search.explored):
        tried: list[FloatArray] = []
        for one in poses:
            if any(np.hypot(*(one - other)[:2]) < TRIED_APART * len(tried) for other in tried):
                continue
            if len(tried) == MOST_TRIED:
                break
            tried.append(one)
            if len(find_way(replace(problem, goal=one), method, settings, 0).poses):
                return one
    return None


def _fitting(problem: Problem, pose: FloatArray, cells: NDArray[np.bool_]) -> Iterator[FloatArray]:
    """Yield poses ``(N, 3)`` of cells at which the body fits, the nearest first: at a heading, and then at others."""
    points = problem.costmap.grid.points_of(np.argwhere(cells))
    points = points[np.argsort(np.hypot(*(points - pose[:2]).T), kind="stable")][:MOST_LOOKED_AT]
    turned = wrap_angle(pose[2] + HEADINGS)
    for headings in (turned[:1], turned[1:]):
        for begin in range(0, len(points), AT_ONCE):
            some = points[begin : begin + AT_ONCE]
            poses = np.column_stack([np.repeat(some, len(headings), axis=0), np.tile(headings, len(some))])
            clear = poses[problem.check.touched(poses) < 0]
            if len(clear):
                yield clear
                break
