"""RRT* and its informed variant: a tree that keeps getting cheaper."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from vinecompass.planning.curves.motions import need_curve
from vinecompass.planning.problem import Problem, Way
from vinecompass.planning.trees.kernels import file_nodes, grow_star
from vinecompass.planning.trees.sampling import Clock, EdgeCheck, OpenFloor, made_short
from vinecompass.settings import PlanSettings

__all__ = ["informed_rrt_star", "rrt_star"]

FloatArray = NDArray[np.float64]
BATCH = 250
"""Samples drawn between two looks at the clock."""
IN_SQUARE = 8.0
"""Nodes in each square of floor in the end: few to look through, in few squares."""
STRAIGHT = 1.0 + 1e-6
"""Times the straight line at which a way cannot get cheaper."""


def rrt_star(problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> Way:
    """Grow a tree from the start and keep making it cheaper (Karaman and Frazzoli, 2011)."""
    return _StarTree(problem, settings, rng).way(informed=False)


def informed_rrt_star(problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> Way:
    """As RRT*, drawing only where it can still help, once there is a way (Gammell, Srinivasa and Barfoot, 2014)."""
    return _StarTree(problem, settings, rng).way(informed=True)


def _neighbourhood(floor: OpenFloor, radius: float) -> float:
    """Return the factor for `TreeMotion`, in cells (Karaman and Frazzoli, 2011): over places, or poses if curves have a
    radius, a turn taken for the way at its end."""
    if radius == 0.0:
        return float(1.01 * np.sqrt(3.0 * floor.cells / np.pi))
    return float(1.01 * (4.0 * radius * floor.cells) ** (1.0 / 3.0))


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
        Factor of the radius within which a random tree must be rewired to tend to the optimum: among places, or, if
        curves join them, among poses.
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
    def rooted(cls, root: FloatArray, most: int) -> TreeArrays:
        """Return a tree of one node, in no square yet, with room for so many."""
        tree = cls(
            poses=np.empty((most, 3)),
            costs=np.zeros(most),
            parents=np.full(most, -1),
            goal_prices=np.full(most, np.inf),
            squares=np.zeros((0, 0), int),
            following=np.full(most, -1),
            first_child=np.full(most, -1),
            next_child=np.full(most, -1),
            side=np.inf,
        )
        tree.poses[0] = root
        return tree

    def in_squares(self, side: float, shape: tuple[int, ...], size: int) -> TreeArrays:
        """Return it with so many nodes filed in squares of another side over a grid of a shape."""
        squares = np.full([int(np.ceil(cells / side)) for cells in shape], -1)
        tree = self._replace(squares=squares, side=side)
        file_nodes(tree, 0, size)
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
        edges = EdgeCheck(problem, settings)
        self._motion = TreeMotion(
            radius * scale,
            words,
            longest=edges.longest * scale,
            spacing=settings.edge_spacing * scale,
            neighbourhood=_neighbourhood(self._floor, radius * scale),
        )
        self._tree = TreeArrays.rooted(self._to_cells(problem.start_pose), settings.iterations + 1)
        self._size = 1
        straight = edges.prices(problem.start_pose[None], problem.goal_pose[None])
        self._tree.goal_prices[0] = straight[0] * scale
        self._mind_floor()

    def _mind_floor(self) -> None:
        """File nodes, and rewire them, as densely as they lie on what is left of the floor.

        Else all nodes in a narrow ellipse would be each other's neighbours. The cheapest way by curves is made of a few
        long ones, so that for them far nodes stay neighbours.
        """
        if self._motion.radius == 0.0:
            self._motion = self._motion._replace(neighbourhood=_neighbourhood(self._floor, 0.0))
        side = max(np.sqrt(IN_SQUARE * self._floor.cells / self._settings.iterations), 1.0)
        self._tree = self._tree.in_squares(side, self._problem.costmap.grid.shape, self._size)

    def way(self, *, informed: bool) -> Way:
        problem, clock = self._problem, self._clock
        start, goal = problem.start_pose, problem.goal_pose
        side = problem.costmap.grid.cell_size
        aimed_at, least = np.inf, float(np.hypot(*(goal - start)[:2])) / side
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
            if best <= least * STRAIGHT:
                break
            if informed and best < 0.98 * aimed_at:
                aimed_at = best
                self._floor.keep_within(start, goal, best * side)
                self._mind_floor()
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
