"""The lattice planner: a search over places and headings by arcs, forward and in reverse."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from vinecompass.contact import BodyShape
from vinecompass.geometry import compose
from vinecompass.motion import limits_of
from vinecompass.planning.curves.kernels import curve_poses
from vinecompass.planning.curves.motions import DUBINS_WORDS, need_curve
from vinecompass.planning.lattice.kernels import lattice_search, turning
from vinecompass.planning.problem import Problem, Way
from vinecompass.planning.search.cost_to_go import CostToGo
from vinecompass.planning.search.grid_search import Cells
from vinecompass.settings import PlanSettings

__all__ = ["lattice"]

FloatArray = NDArray[np.float64]
EASY_NODES, MOST_NODES = 30_000, 400_000
"""Nodes with which most ways are found, and those after which a search gives up.

After the first it looks once whether there is floor all the way on which the body fits at some heading: where there is
not, more nodes would find none either, but for a way that is tighter than can be told.
"""
FEWEST_HEADINGS = 128
"""Headings at which the body is tried then, at least."""
SHOT_REACH = 3.0
"""Metres from the goal within which every node tries the curve that leads straight there."""


class Moves(NamedTuple):
    """The moves of a lattice.

    Parameters
    ----------
    poses : array, (M, K, 3)
        Of each move, seen from its start, which is the first of them; lengths in cells.
    prices : array, (M,)
        What a cell's length of each costs; negative for a turn on the spot: then what all of it costs.
    kinds : array of int, (M,)
        1 ahead, -1 in reverse, 0 a turn on the spot.
    """

    poses: FloatArray
    prices: FloatArray
    kinds: NDArray[np.int64]


class Places(NamedTuple):
    """The squares and headings that a lattice tells apart.

    Parameters
    ----------
    side : float
        Of a square, in cells.
    columns, headings : int
    index_of : array, (states,), int32
        The node known at each place, 0 for none. Most pages of it are never touched.
    """

    side: float
    columns: int
    headings: int
    index_of: NDArray[np.int32]

    @classmethod
    def over(cls, shape: tuple[int, ...], side: float, headings: int) -> Places:
        """Return the places over a grid of a shape."""
        rows, columns = (int(cells / side) + 1 for cells in shape)
        return cls(side, columns, headings, np.zeros(rows * columns * headings, np.int32))


class Shot(NamedTuple):
    """How curves straight to the goal are driven and priced.

    Parameters
    ----------
    goal : array, (3,)
        In cells.
    radius : float
        In cells; 0 for a straight line between turns on the spot.
    words : array of bool
        Dubins's that are allowed ahead.
    reverses : bool
        Whether it may go in reverse, too.
    reverse_price, turn_price, change_price : float
        Of a cell in reverse, of a radian, and of a change between forward and reverse.
    spacing, near : float
        Cells between the poses that are checked; and from the goal within which shots are tried each time.
    """

    goal: FloatArray
    radius: float
    words: NDArray[np.bool_]
    reverses: bool
    reverse_price: float
    turn_price: float
    change_price: float
    spacing: float
    near: float


class Bounds(NamedTuple):
    """What the way to the goal costs at least.

    Parameters
    ----------
    over_cells : array, (rows, columns)
        From each cell; inf where nothing leads to the goal.
    haste : float
        How many times the bound counts.
    """

    over_cells: FloatArray
    haste: float


class Hope(NamedTuple):
    """When and how a search looks whether there is any hope.

    Parameters
    ----------
    after : int
        Nodes.
    body : BodyShape
        Smaller than the robot's, in cells: where it does not fit in the middle of a cell, that fits nowhere in it.
    headings : int
        At which the body is tried in each cell.
    first, last : (row, column)
        Between which there must be floor on which it fits.
    """

    after: int
    body: BodyShape
    headings: int
    first: Cells
    last: Cells


class Nodes(NamedTuple):
    """The nodes of a search; 0 stands for none.

    Parameters
    ----------
    poses : array, (N, 3)
    costs : array, (N,)
    parents, by_move : array of int, (N,)
        Over which node, and by which move, each was reached.
    settled : array of bool, (N,)
    directions : array of int, (N,)
        The kind of the last move that was none on the spot.
    """

    poses: FloatArray
    costs: FloatArray
    parents: NDArray[np.int32]
    by_move: NDArray[np.int32]
    settled: NDArray[np.bool_]
    directions: NDArray[np.int8]

    @classmethod
    def of(cls, most: int) -> Nodes:
        """Return room for so many nodes."""
        count = most + 1
        return cls(
            np.empty((count, 3)),
            np.empty(count),
            np.empty(count, np.int32),
            np.empty(count, np.int32),
            np.zeros(count, np.bool_),
            np.zeros(count, np.int8),
        )


def lattice(problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> Way:
    """Search by arcs for a way that the whole body can drive, at every heading on it.

    A node is a pose; of those in one square and heading of the lattice, only the cheapest is gone on from
    (hybrid-state A*: Dolgov, Thrun, Montemerlo and Diebel, 2008). It is drawn on by what the origin's way to the goal
    costs over the cells, or, where that is more, by what the cheapest curve there costs if nothing is in the way. Since
    the first turns by eighths only, the way may be up to 8 % dearer than the lattice's cheapest.
    A robot that turns on the spot may do so, at the price of the way that its farthest corner makes; it ends with a
    straight line between two turns, ahead or in reverse. A change between forward and reverse costs the stop that it
    takes. Ways to one node that come in forward and in reverse are not told apart: the cheaper stays, even where the
    other would go on without a change. Where `lattice_haste` is above 1 the bound counts so many times: far fewer nodes
    are looked at, and the way may be as many times dearer (weighted A*: Pohl, 1970).
    Where many nodes have found nothing, it looks once whether the body fits on floor all the way, and gives up if not.
    """
    costmap, grid = problem.costmap, problem.costmap.grid
    scale = 1.0 / grid.cell_size
    radius, words = need_curve(problem.steering)
    moves = _moves(problem, settings, radius, words)
    first, last = problem.ends
    field = CostToGo(costmap.prices, last, costmap.one_way)
    field.grow(first)
    nothing = np.zeros((0, 3))
    if not np.isfinite(field.cost_to(first)):
        return Way(nothing, 0, 1, exhausted=True)
    field.grow()
    over_cells = np.where(field.came_by > 0, field.costs, np.inf).reshape(grid.shape)
    shot = Shot(
        goal=problem.poses_to_cells(problem.goal_pose),
        radius=radius * scale,
        words=words if len(words) else np.ones(len(DUBINS_WORDS), bool),
        reverses=bool(np.any(moves.kinds < 0)),
        reverse_price=settings.reverse_price,
        turn_price=problem.body.outer_radius,
        change_price=settings.change_price * scale,
        spacing=settings.edge_spacing * scale,
        near=SHOT_REACH * scale,
    )
    nodes = Nodes.of(MOST_NODES)
    poses, used, curve, cost, expanded, made, exhausted = lattice_search(
        problem.floor,
        problem.body,
        moves,
        Bounds(over_cells, settings.lattice_haste),
        problem.poses_to_cells(problem.start_pose),
        Places.over(grid.shape, max(settings.lattice_cell * scale, 1.0), settings.lattice_headings),
        shot,
        Hope(EASY_NODES, _a_little_smaller(problem), max(2 * settings.lattice_headings, FEWEST_HEADINGS), first, last),
        nodes,
    )
    explored = problem.to_site(nodes.poses[1 : 1 + made, :2])
    if not np.isfinite(cost):
        return Way(nothing, expanded, 1, explored, exhausted=exhausted)
    legs = [compose(node, moves.poses[move]) for node, move in zip(poses[:-1], used, strict=True)]
    legs.append(_shot(poses[-1], curve, radius * scale, settings.spacing * scale))
    whole = np.vstack([legs[0], *(leg[1:] for leg in legs[1:])])
    return Way(problem.poses_to_site(whole), expanded, 1, explored)


def _a_little_smaller(problem: Problem) -> BodyShape:
    """Return the body, in cells, so much smaller that it fits in the middle of a cell if it does anywhere in it."""
    share = 1.0 - min(0.5 * problem.costmap.grid.cell_size / problem.robot.body.inner_radius, 0.5)
    body = problem.body
    return BodyShape(share * body.outline, share * body.outer_radius, share * body.discs, share * body.disc_radius)


def _turns(words: NDArray[np.bool_], side: str) -> bool:
    """Tell whether any of the words allowed turns to a side; none named means all of them."""
    allowed = [word for word, use in zip(DUBINS_WORDS, words, strict=False) if use]
    return not allowed or any(side in word for word in allowed)


def _moves(problem: Problem, settings: PlanSettings, radius: float, words: NDArray[np.bool_]) -> Moves:
    """Return the moves that lead from a node to others: arcs ahead and, if the drive can, in reverse; and turns."""
    side = problem.costmap.grid.cell_size
    turn_step = 2.0 * np.pi / settings.lattice_headings
    # Long enough to leave its square, and to turn by a heading.
    length = max(1.5 * settings.lattice_cell, (radius or 2.0 * problem.robot.body.inner_radius) * turn_step)
    bend_radius = radius or length / turn_step
    count = max(int(np.ceil(length / settings.edge_spacing)), 2)
    bends = (0.0, *((1.0,) if _turns(words, "L") else ()), *((-1.0,) if _turns(words, "R") else ()))
    reverses = limits_of(problem.robot.drive).reverse_speed > 0.0 and len(words) == 0
    moves, prices, kinds = [], [], []
    for direction in (1.0, -1.0) if reverses else (1.0,):
        for bend in bends:
            piece = np.zeros((5, 2))
            piece[0] = bend, direction * length / bend_radius
            path = curve_poses(np.zeros(3), piece, bend_radius, length / (count - 1e-6))
            moves.append(path / (side, side, 1.0))
            prices.append(1.0 if direction > 0.0 else settings.reverse_price)
            kinds.append(int(direction))
    if radius == 0.0:
        for way_round in (1.0, -1.0):
            turn = np.zeros((count + 1, 3))
            turn[:, 2] = way_round * turn_step * np.linspace(0.0, 1.0, count + 1)
            moves.append(turn)
            prices.append(-problem.body.outer_radius * turn_step)
            kinds.append(0)
    return Moves(np.stack(moves), np.array(prices), np.array(kinds))


def _shot(start: FloatArray, curve: FloatArray, radius: float, spacing: float) -> FloatArray:
    """Return the poses of the last curve, in cells."""
    if radius > 0.0:
        return np.asarray(curve_poses(start, curve, radius, spacing))
    first, line, last = curve[:3, 1]
    out = turning(start, first)
    straight = np.zeros((5, 2))
    straight[0, 1] = line
    ahead = curve_poses(out[-1], straight, 1.0, spacing)
    return np.vstack([out, ahead[1:], turning(ahead[-1], last)[1:]])
