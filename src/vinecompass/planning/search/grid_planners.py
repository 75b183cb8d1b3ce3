"""Planners over cells: the cheapest way for the body's origin, then kept off where the whole body would touch."""

from __future__ import annotations

from collections.abc import Callable
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import resample_polyline, wrap_angle
from vinecompass.planning.problem import Problem, Way
from vinecompass.planning.search.any_angle import find_any_angle_path
from vinecompass.planning.search.grid_search import GridPath, find_grid_path
from vinecompass.planning.search.smoothing import shorten, smooth
from vinecompass.settings import PlanSettings

__all__ = ["a_star", "any_angle", "dijkstra", "finished", "with_headings"]

FloatArray = NDArray[np.float64]
MOST_EXPLORED = 20_000
"""Points of the explored set that are kept for drawing."""


def dijkstra(problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> Way:
    """Search evenly all round (Dijkstra, 1959)."""
    return _around_touches(
        problem,
        settings,
        lambda prices, first, last, one_way: find_grid_path(prices, first, last, one_way=one_way, bounded=False),
    )


def a_star(problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> Way:
    """Search towards the goal (Hart, Nilsson and Raphael, 1968)."""
    return _around_touches(
        problem, settings, lambda prices, first, last, one_way: find_grid_path(prices, first, last, one_way=one_way)
    )


def any_angle(problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> Way:
    """Search for straight lines at any angle (Theta*: Daniel, Nash, Koenig and Felner, 2010)."""
    return _around_touches(
        problem,
        settings,
        lambda prices, first, last, one_way: find_any_angle_path(prices, first, last, one_way=one_way),
    )


def _around_touches(problem: Problem, settings: PlanSettings, search: Callable[..., GridPath]) -> Way:
    """Search, finish and check with the whole body; where it touches, keep away from there and search again."""
    costmap, (first, last) = problem.costmap, problem.ends
    prices = costmap.prices.copy()
    expanded = 0
    explored = np.zeros((0, 2))
    for attempt in range(1, settings.body_retries + 1):
        path = search(prices, first, last, costmap.one_way)
        expanded += path.expanded
        explored = costmap.grid.points_of(_thinned(np.argwhere(path.explored)))
        if len(path.points) == 0:
            return Way(np.zeros((0, 3)), expanded, attempt, explored, exhausted=attempt == 1)
        ends = problem.to_cells(np.stack([problem.start_pose[:2], problem.goal_pose[:2]]))
        points = finished(problem, settings, np.vstack([ends[:1], path.points[1:-1], ends[1:]]), prices)
        poses = with_headings(problem, points, problem.goal_pose[2])
        # How it turns at its ends is not said yet: of them only the poses are looked at.
        looked_at = np.vstack(
            [poses[:1], problem.check.between(poses[1:-1] if len(poses) > 2 else poses[:1]), poses[-1:]]
        )
        touched = problem.check.touched(looked_at)
        if np.all(touched < 0):
            return Way(poses, expanded, attempt, explored)
        hits = np.flatnonzero(touched >= 0)
        cells = np.stack(np.divmod(touched[hits], costmap.grid.shape[1]), axis=-1)
        _, once = np.unique(cells, axis=0, return_index=True)
        _keep_away(prices, cells[once], problem.to_cells(looked_at[hits[once], :2]))
        for end in (first, last):
            prices[end] = costmap.prices[end]
    return Way(np.zeros((0, 3)), expanded, settings.body_retries, explored)


def _thinned(cells: NDArray[np.int64]) -> NDArray[np.int64]:
    return cells[:: max(len(cells) // MOST_EXPLORED, 1)]


def finished(problem: Problem, settings: PlanSettings, points: FloatArray, prices: NDArray[np.float32]) -> FloatArray:
    """Make a way over points ``(N, 2)`` in cells, column before row, short, even and smooth."""
    one_way = problem.floor.one_way
    corners = shorten(prices, points, one_way)
    # Leg by leg, so that the corners stay: a chord across one might meet a closed cell.
    spacing = settings.spacing / problem.costmap.grid.cell_size
    legs = [resample_polyline(leg, spacing) for leg in pairwise(corners)]
    even = np.vstack([corners[:1], *(leg[1:] for leg in legs)])
    return smooth(prices, even, one_way, problem.costmap.clearance, rounds=settings.smoothing_rounds)


def with_headings(problem: Problem, points: FloatArray, last: float) -> FloatArray:
    """Return poses ``(N, 3)`` in the site frame at points in cells: along the way, but as at the start, and at last."""
    xy = problem.to_site(points)
    ahead = np.diff(xy, axis=0)
    headings = np.arctan2(ahead[:, 1], ahead[:, 0])
    if len(xy) == 1 or not np.any(ahead):
        headings = np.full(len(xy) - 1, problem.start_pose[2])
    # The robot is at the start as it stands: a way out is any along which the next pose is clear.
    headings[:1] = problem.start_pose[2]
    return np.column_stack([xy, wrap_angle(np.append(headings, last))])


def _keep_away(prices: NDArray[np.float32], touched: NDArray[np.int64], points: FloatArray) -> None:
    """Close the cells about the places where the body touched, out to a cell more than the origin was from there."""
    for cell, point in zip(touched, points, strict=True):
        reach = np.hypot(*(cell[::-1] + 0.5 - point)) + 0.5
        margin = int(np.ceil(reach))
        low, high = np.maximum(cell - margin, 0), np.minimum(cell + margin + 1, prices.shape)
        block = tuple(slice(a, b) for a, b in zip(low, high, strict=True))
        rows, columns = np.ogrid[block]
        prices[block][np.hypot(rows - cell[0], columns - cell[1]) <= reach] = np.inf
