"""RRT* and its informed variant: a tree that keeps getting cheaper."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.planning.curves.motions import full_turn, need_curve
from vinecompass.planning.problem import Problem, Way
from vinecompass.planning.trees.kernels import grow_star
from vinecompass.planning.trees.sampling import Clock, OpenFloor, made_short
from vinecompass.settings import PlanSettings

__all__ = ["informed_rrt_star", "rrt_star"]

FloatArray = NDArray[np.float64]
BATCH = 250
"""Samples drawn between two looks at the clock."""


def rrt_star(problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> Way:
    """Grow a tree from the start and keep making it cheaper (Karaman and Frazzoli, 2011)."""
    return _StarTree(problem, settings, rng).way(informed=False)


def informed_rrt_star(problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> Way:
    """As RRT*, drawing only where it can still help, once there is a way (Gammell, Srinivasa and Barfoot, 2014)."""
    return _StarTree(problem, settings, rng).way(informed=True)


class _StarTree:
    def __init__(self, problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> None:
        self._problem = problem
        self._settings = settings
        self._floor = OpenFloor(problem, rng)
        self._clock = Clock(settings)
        grid, most = problem.costmap.grid, settings.iterations + 1
        scale = 1.0 / grid.cell_size
        self._to_cells = problem.poses_to_cells
        radius, words = need_curve(problem.steering)
        self._motion = (radius * scale, words)
        # The radius within which a random tree must be rewired to tend to the optimum, for this much open floor.
        area = float(np.sum(np.isfinite(problem.costmap.prices)))
        factor = 1.01 * np.sqrt(3.0 * area / np.pi)
        longest = (settings.longest_edge + full_turn(problem.steering)) * scale
        self._limits = (longest, settings.edge_spacing * scale, factor)
        side = settings.longest_edge * scale / 4.0
        shape = tuple(int(np.ceil(cells / side)) for cells in grid.shape)
        self._poses = np.empty((most, 3))
        self._costs = np.zeros(most)
        self._parents = np.full(most, -1)
        self._goal_prices = np.full(most, np.inf)
        squares, following = np.full(shape, -1), np.full(most, -1)
        first_child, next_child = np.full(most, -1), np.full(most, -1)
        self._poses[0] = self._to_cells(problem.start_pose)
        x, y, _ = self._poses[0]
        squares[int(y / side), int(x / side)] = 0
        self._tree = (
            self._poses,
            self._costs,
            self._parents,
            self._goal_prices,
            squares,
            following,
            first_child,
            next_child,
            side,
        )
        self._size = 1

    def way(self, *, informed: bool) -> Way:
        problem, clock = self._problem, self._clock
        aimed_at = np.inf
        while count := clock.draw(BATCH):
            before = self._size
            samples = self._to_cells(self._floor.draw(count))
            self._size = grow_star(
                problem.floor,
                problem.body,
                self._motion,
                self._limits,
                self._to_cells(problem.goal_pose),
                samples,
                self._tree,
                self._size,
            )
            self._test_goals(before)
            best = float(np.min((self._costs + self._goal_prices)[: self._size]))
            if informed and best < 0.98 * aimed_at:
                aimed_at = best
                self._floor.keep_within(problem.start_pose, problem.goal_pose, best * problem.costmap.grid.cell_size)
        totals = (self._costs + self._goal_prices)[: self._size]
        node = int(np.argmin(totals))
        nodes, size = np.zeros((0, 3)), self._size
        if np.isfinite(totals[node]):
            path = [node]
            while self._parents[path[-1]] >= 0:
                path.append(int(self._parents[path[-1]]))
            nodes = problem.poses_to_site(self._poses[path[::-1]])
            nodes[0] = problem.start_pose
            if self._goal_prices[node] > 0.0:
                nodes = np.vstack([nodes, problem.goal_pose])
        edges = np.stack([self._poses[1:size, :2], self._poses[self._parents[1:size], :2]], axis=1)
        tree = problem.to_site(edges.reshape(-1, 2)).reshape(-1, 2, 2)
        poses = made_short(problem, self._settings, nodes) if len(nodes) else nodes
        return Way(poses, size, clock.iterations, tree=tree)

    def _test_goals(self, first: int) -> None:
        """Ask the problem's own test about the nodes added since; it counts in place of the goal pose."""
        test = self._problem.goal_test
        if test is not None:
            for node, pose in enumerate(self._problem.poses_to_site(self._poses[first : self._size]), start=first):
                self._goal_prices[node] = 0.0 if test(pose) else np.inf
