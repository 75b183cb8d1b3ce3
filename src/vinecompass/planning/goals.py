"""Where a plan may end: at a pose, at the best of several, anywhere in a region, or wherever a test says."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from typing import TypeGuard

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray

from vinecompass.errors import InputError
from vinecompass.geometry import wrap_angle
from vinecompass.planning.problem import Problem
from vinecompass.planning.search.grid_search import GridSearch
from vinecompass.planning.search.kernels import COLUMN_STEPS, DIRECTION, ORIGIN, ROW_STEPS

__all__ = ["Goal", "Place", "goal_poses", "is_place", "places_that_will_do"]

FloatArray = NDArray[np.float64]
Place = shapely.Polygon | Callable[[FloatArray], bool]
"""A region of the site, or a test of a pose ``(3,)``."""
Goal = ArrayLike | Place
"""A pose ``(3,)``, several ``(K, 3)``, or a place; in the site frame, m and radians."""
APART = 0.1
"""Metres between the places at which a region or a test is looked at."""
TURNS = np.linspace(0.0, 2.0 * np.pi, 8, endpoint=False)
"""Headings that are tried at each, from the one that it is come to with."""
AT_ONCE = 500
"""Places looked at at once."""


def is_place(goal: Goal) -> TypeGuard[Place]:
    """Tell whether a goal is a region or a test, of which poses have yet to be found."""
    return isinstance(goal, shapely.Polygon) or callable(goal)


def goal_poses(goal: Goal) -> FloatArray:
    """Return the poses ``(K, 3)`` that a goal is made of; raise `InputError` if it is none."""
    try:
        poses = np.asarray(goal, dtype=float)
    except (TypeError, ValueError):
        poses = np.zeros(0)
    if poses.ndim not in (1, 2) or poses.shape[-1] != 3 or poses.size == 0:
        expected = "a pose (3,), poses (K, 3), a polygon, or a test of a pose"
        raise InputError("is no goal", key="goal", value=goal, expected=expected)
    return poses.reshape(-1, 3)


def places_that_will_do(problem: Problem, goal: Place) -> Iterator[FloatArray]:
    """Yield poses of a region, or that pass a test, at which the body fits: those cheapest to come to first.

    What each costs is reckoned for the body's origin, over all floor that it can reach, at places 0.1 m apart; each is
    tried with the heading that it is come to with, and then with seven others.
    """
    grid, (start, _) = problem.costmap.grid, problem.ends
    search = GridSearch(problem.costmap.prices, start, problem.costmap.one_way)
    search.grow()
    stride = max(round(APART / grid.cell_size), 1)
    cells = np.argwhere(search.explored)
    cells = cells[np.all((cells - start) % stride == 0, axis=1)]
    if isinstance(goal, shapely.Polygon):
        cells = cells[shapely.contains_xy(goal, *grid.points_of(cells).T)]
    flat = cells[:, 0] * grid.shape[1] + cells[:, 1]
    cells = cells[np.argsort(search.costs[flat], kind="stable")]
    for first in range(0, len(cells), AT_ONCE):
        some = cells[first : first + AT_ONCE]
        came_by = search.came_by[some[:, 0] * grid.shape[1] + some[:, 1]] & DIRECTION
        step = np.minimum(came_by.astype(np.int64) - 1, len(ROW_STEPS) - 1)
        headings = np.arctan2(ROW_STEPS[step], COLUMN_STEPS[step]) + grid.turn
        headings[came_by == ORIGIN] = problem.start_pose[2]
        poses = np.empty((len(some), len(TURNS), 3))
        poses[..., :2] = grid.points_of(some)[:, None]
        poses[..., 2] = wrap_angle(headings[:, None] + TURNS)
        fitting = problem.check.touched(poses.reshape(-1, 3)).reshape(len(some), -1) < 0
        for pose in poses[fitting]:
            if isinstance(goal, shapely.Polygon) or goal(pose):
                yield pose
