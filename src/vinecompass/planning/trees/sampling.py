"""What the sampling planners share: samples of open floor, checked edges, and ways made short."""

from __future__ import annotations

import time
from itertools import pairwise

import numpy as np
from numpy.typing import NDArray

from vinecompass.planning.curves.motions import curve_of, full_turn
from vinecompass.planning.problem import Problem
from vinecompass.planning.search.grid_planners import finished, with_headings
from vinecompass.planning.trees.kernels import edge_prices
from vinecompass.settings import PlanSettings

__all__ = ["Clock", "EdgeCheck", "OpenFloor", "made_short"]

FloatArray = NDArray[np.float64]


class Clock:
    """Tells when a planner has drawn all its samples, or used up its time."""

    def __init__(self, settings: PlanSettings) -> None:
        self._settings = settings
        self._begun = time.perf_counter()
        self.iterations = 0

    def draw(self, count: int) -> int:
        """Return how many of `count` more samples may be drawn, and count them."""
        limit = self._settings.time_limit
        if time.perf_counter() - self._begun > limit:
            return 0
        count = min(count, self._settings.iterations - self.iterations)
        self.iterations += count
        return count


class OpenFloor:
    """Draws poses from the open floor, every other time from where it is dearer.

    Since only open cells are drawn from, none is wasted on walls. Floor that is dear lies between walls: taking the
    dearer of two draws finds the narrow places that a tree must get through.
    """

    def __init__(self, problem: Problem, rng: np.random.Generator) -> None:
        self._grid = problem.costmap.grid
        self._rng = rng
        cells = np.argwhere(np.isfinite(problem.costmap.prices))
        self._points = self._grid.points_of(cells)
        self._prices = problem.costmap.prices[cells[:, 0], cells[:, 1]]

    @property
    def cells(self) -> int:
        """How many cells are drawn from."""
        return len(self._points)

    def draw(self, count: int) -> FloatArray:
        """Return poses ``(count, 3)`` on the open floor, at any heading."""
        one, other = self._rng.integers(0, len(self._points), (2, count))
        dearer = (self._rng.random(count) < 0.5) & (self._prices[other] > self._prices[one])
        within = self._grid.cell_size * (self._rng.random((count, 2)) - 0.5)
        headings = self._rng.uniform(-np.pi, np.pi, count)
        return np.column_stack([self._points[np.where(dearer, other, one)] + within, headings])

    def keep_within(self, start: FloatArray, goal: FloatArray, cost: float) -> None:
        """From now on draw only where a way from start to goal cheaper than `cost` can pass.

        That is an ellipse with start and goal as its foci (Gammell, Srinivasa and Barfoot, 2014).
        """
        there = np.hypot(*(self._points - start[:2]).T) + np.hypot(*(self._points - goal[:2]).T)
        if np.any(there < cost):
            self._points = self._points[there < cost]
            self._prices = self._prices[there < cost]


class EdgeCheck:
    """Makes and prices edges for a problem's motion."""

    def __init__(self, problem: Problem, settings: PlanSettings) -> None:
        self._problem = problem
        self._motion = problem.steering
        self._settings = settings
        self.longest = settings.longest_edge + full_turn(problem.steering)

    def price(self, start: FloatArray, goal: FloatArray) -> float:
        """Return what an edge costs, metres-equivalent; `inf` if the body cannot drive it."""
        poses = self._motion.poses(start, goal, self._settings.edge_spacing)
        return self._problem.check.price(poses) if len(poses) else float("inf")

    def prices(self, starts: FloatArray, goals: FloatArray) -> FloatArray:
        """Return what edges between poses ``(N, 3)`` cost; `inf` where too long, or the body cannot drive them."""
        problem, curve = self._problem, curve_of(self._motion)
        if curve is None:
            lengths = self._motion.lengths(starts, goals)
            edges = zip(starts, goals, lengths, strict=True)
            return np.array([self.price(a, b) if length <= self.longest else np.inf for a, b, length in edges])
        side = problem.costmap.grid.cell_size
        return side * edge_prices(
            problem.floor,
            problem.body,
            (curve[0] / side, curve[1]),
            self.longest / side,
            self._settings.edge_spacing / side,
            problem.poses_to_cells(starts),
            problem.poses_to_cells(goals),
        )

    def towards(self, start: FloatArray, goal: FloatArray, *, backwards: bool = False) -> tuple[FloatArray, float]:
        """Return how far an edge of at most the longest length gets towards a pose, and what it costs.

        Backwards, the edge is one that comes from `goal` and ends at `start`.
        """
        poses = self._motion.poses(*((goal, start) if backwards else (start, goal)), self._settings.edge_spacing)
        if len(poses) < 2:
            return start, float("inf")
        if backwards:
            poses = poses[::-1]
        steps = np.hypot(*np.diff(poses[:, :2], axis=0).T)
        poses = poses[: 1 + max(int(np.searchsorted(np.cumsum(steps), self.longest + 1e-9)), 1)]
        return poses[-1], self._problem.check.price(poses[::-1] if backwards else poses)

    def lengths(self, starts: FloatArray, goals: FloatArray) -> FloatArray:
        """Return the lengths of edges, m, however long, whether or not the body can drive them."""
        return self._motion.lengths(starts, goals)


def made_short(problem: Problem, settings: PlanSettings, nodes: FloatArray) -> FloatArray:
    """Return the poses of a way over nodes ``(N, 3)``, edges left out where a direct one is cheaper."""
    edges, motion = EdgeCheck(problem, settings), problem.steering
    along = [0.0]
    for a, b in pairwise(nodes):
        along.append(along[-1] + edges.price(a, b))
    kept = [0]
    while kept[-1] < len(nodes) - 1:
        here, last = kept[-1], len(nodes) - 1
        # The farthest node that a direct edge reaches no dearer than the way there.
        while last > here + 1 and edges.price(nodes[here], nodes[last]) > along[last] - along[here]:
            last -= 1
        kept.append(last)
    if problem.turns_on_the_spot and len(nodes) > 1:
        points = problem.to_cells(nodes[kept, :2])
        smooth = with_headings(problem, finished(problem, settings, points, problem.costmap.prices), nodes[-1, 2])
        if np.isfinite(problem.check.price(smooth)) and problem.check.touched_along(smooth) is None:
            return smooth
    legs = [motion.poses(nodes[a], nodes[b], settings.spacing) for a, b in pairwise(kept)]
    # Curves end as the next begins; between straight lines, and at both ends, it turns on the spot.
    turns = problem.turns_on_the_spot
    whole = [nodes[:1], *legs, nodes[-1:]] if turns else [*legs[:1], *(leg[1:] for leg in legs[1:])]
    return np.vstack(whole) if legs else nodes
