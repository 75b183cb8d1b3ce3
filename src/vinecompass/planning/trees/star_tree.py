"""RRT* and its informed variant: a tree that keeps getting cheaper."""

from __future__ import annotations

from typing import NamedTuple

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


class TreeMotion(NamedTuple):
    """How edges are made; lengths in cells.

    Parameters
    ----------
    radius : float
        Of curves; 0 for straight lines.
    words : array of bool
        Of curves that are allowed.
    longest, spacing : float
        Of edges, and between the poses at which they are checked.
    neighbourhood : float
        Factor of the radius within which a random tree must be rewired to tend to the optimum.
    """

    radius: float
    words: NDArray[np.bool_]
    longest: float
    spacing: float
    neighbourhood: float


class TreeArrays(NamedTuple):
    """A tree in cells, with room for more nodes.

    Parameters
    ----------
    poses, costs, parents : array, (N, 3), (N,), (N,)
        Of each node; -1 for no parent.
    goal_prices : array, (N,)
        The price of a checked edge from each to the goal; `inf` if there is none.
    squares, following : array of int, (rows, columns), (N,)
        The first node in each square of floor, and the next one in the same; -1 for none.
    first_child, next_child : array of int, (N,)
        What hangs under each, likewise.
    side : float
        Of a square.
    """

    poses: FloatArray
    costs: FloatArray
    parents: NDArray[np.int64]
    goal_prices: FloatArray
    squares: NDArray[np.int64]
    following: NDArray[np.int64]
    first_child: NDArray[np.int64]
    next_child: NDArray[np.int64]
    side: float

    @classmethod
    def rooted(cls, root: FloatArray, most: int, shape: tuple[int, ...], side: float) -> TreeArrays:
        """Return a tree of one node over a grid of a shape, with room for so many."""
        squares = np.full([int(np.ceil(cells / side)) for cells in shape], -1)
        squares[int(root[1] / side), int(root[0] / side)] = 0
        tree = cls(
            poses=np.empty((most, 3)),
            costs=np.zeros(most),
            parents=np.full(most, -1),
            goal_prices=np.full(most, np.inf),
            squares=squares,
            following=np.full(most, -1),
            first_child=np.full(most, -1),
            next_child=np.full(most, -1),
            side=side,
        )
        tree.poses[0] = root
        return tree


class _StarTree:
    def __init__(self, problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> None:
        self._problem = problem
        self._settings = settings
        self._floor, self._clock = OpenFloor(problem, rng), Clock(settings)
        grid = problem.costmap.grid
        scale = 1.0 / grid.cell_size
        self._to_cells = problem.poses_to_cells
        radius, words = need_curve(problem.steering)
        area = float(np.sum(np.isfinite(problem.costmap.prices)))
        self._motion = TreeMotion(
            radius * scale,
            words,
            longest=(settings.longest_edge + full_turn(problem.steering)) * scale,
            spacing=settings.edge_spacing * scale,
            neighbourhood=1.01 * np.sqrt(3.0 * area / np.pi),
        )
        root = self._to_cells(problem.start_pose)
        side = settings.longest_edge * scale / 4.0
        self._tree = TreeArrays.rooted(root, settings.iterations + 1, grid.shape, side)
        self._size = 1

    def way(self, *, informed: bool) -> Way:
        problem, clock = self._problem, self._clock
        aimed_at = np.inf
        while count := clock.draw(BATCH):
            samples = self._to_cells(self._floor.draw(count))
            self._size = grow_star(
                problem.floor,
                problem.body,
                self._motion,
                self._to_cells(problem.goal_pose),
                samples,
                self._tree,
                self._size,
            )
            best = float(np.min((self._tree.costs + self._tree.goal_prices)[: self._size]))
            if informed and best < 0.98 * aimed_at:
                aimed_at = best
                self._floor.keep_within(problem.start_pose, problem.goal_pose, best * problem.costmap.grid.cell_size)
        totals = (self._tree.costs + self._tree.goal_prices)[: self._size]
        node = int(np.argmin(totals))
        nodes, size = np.zeros((0, 3)), self._size
        if np.isfinite(totals[node]):
            path = [node]
            while self._tree.parents[path[-1]] >= 0:
                path.append(int(self._tree.parents[path[-1]]))
            nodes = problem.poses_to_site(self._tree.poses[path[::-1]])
            nodes[0] = problem.start_pose
            if self._tree.goal_prices[node] > 0.0:
                nodes = np.vstack([nodes, problem.goal_pose])
        edges = np.stack([self._tree.poses[1:size, :2], self._tree.poses[self._tree.parents[1:size], :2]], axis=1)
        tree = problem.to_site(edges.reshape(-1, 2)).reshape(-1, 2, 2)
        poses = made_short(problem, self._settings, nodes) if len(nodes) else nodes
        return Way(poses, size, clock.iterations, tree=tree)
