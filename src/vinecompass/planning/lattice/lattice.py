"""The lattice planner: a search over places and headings by arcs, forward and in reverse."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose
from vinecompass.planning.curves.kernels import curve_poses
from vinecompass.planning.curves.motions import DUBINS_WORDS, need_curve
from vinecompass.planning.lattice.kernels import lattice_search, turning
from vinecompass.planning.problem import Problem, Way
from vinecompass.planning.search.cost_to_go import CostToGo
from vinecompass.settings import PlanSettings

__all__ = ["lattice"]

FloatArray = NDArray[np.float64]
MOST_NODES = 400_000
SHOT_REACH = 3.0
"""Metres from the goal within which every node tries the curve that leads straight there."""


def lattice(problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> Way:
    """Search by arcs for a way that the whole body can drive, at every heading on it.

    A node is a pose; of those in one square and heading of the lattice, only the cheapest is gone on from
    (hybrid-state A*: Dolgov, Thrun, Montemerlo and Diebel, 2008). It is drawn on by what the origin's way to the goal
    costs over the cells; since that turns by eighths only, the way may be up to 8 % dearer than the lattice's cheapest.
    A robot that turns on the spot may do so, at the price of the way that its farthest corner makes; it ends with a
    straight line between two turns, ahead or in reverse. A change between forward and reverse costs the stop that it
    takes. Ways to one node that come in forward and in reverse are not told apart: the cheaper stays, even where the
    other would go on without a change.
    """
    costmap, grid = problem.costmap, problem.costmap.grid
    scale = 1.0 / grid.cell_size
    radius, words = need_curve(problem.steering)
    reverse = problem.robot.drive.reverse_speed > 0.0 and len(words) == 0
    turn_step = 2.0 * np.pi / settings.lattice_headings
    # Long enough to leave its square, and to turn by a heading.
    length = max(1.5 * settings.lattice_cell, (radius or 2.0 * problem.robot.body.inner_radius) * turn_step)
    bends = (0.0, *((1.0,) if _turns(words, "L") else ()), *((-1.0,) if _turns(words, "R") else ()))
    moves = _moves(problem, settings, radius, reverse, bends, length, turn_step)
    first, last = problem.ends
    field = CostToGo(costmap.prices, last, costmap.one_way)
    field.grow(first)
    nothing = np.zeros((0, 3))
    if not np.isfinite(field.cost_to(first)):
        return Way(nothing, 0, 1, exhausted=True)
    field.grow()
    bounds = np.where(field.came_by > 0, field.costs, np.inf).reshape(grid.shape)
    start = problem.poses_to_cells(problem.start_pose)
    goal = problem.poses_to_cells(problem.goal_pose)
    side = max(settings.lattice_cell * scale, 1.0)
    shape = (int(grid.shape[0] / side) + 1, int(grid.shape[1] / side) + 1)
    turn_price = problem.robot.body.outer_radius * scale
    nodes, used, curve, cost, expanded, looked = lattice_search(
        problem.floor_arrays,
        problem.body_arrays,
        moves,
        bounds,
        start,
        goal,
        np.zeros(shape[0] * shape[1] * settings.lattice_headings, np.int32),
        shape,
        side,
        settings.lattice_headings,
        (radius * scale, words, settings.reverse_price, turn_price, settings.change_price * scale),
        (MOST_NODES, settings.edge_spacing * scale, SHOT_REACH * scale),
    )
    explored = problem.to_site(looked)
    if not np.isfinite(cost):
        return Way(nothing, expanded, 1, explored, exhausted=len(looked) < MOST_NODES)
    legs = [compose(node, moves[0][move]) for node, move in zip(nodes[:-1], used, strict=True)]
    legs.append(_shot(nodes[-1], curve, radius * scale, settings.spacing * scale))
    poses = np.vstack([legs[0], *(leg[1:] for leg in legs[1:])])
    return Way(problem.poses_to_site(poses), expanded, 1, explored)


def _turns(words: NDArray[np.bool_], side: str) -> bool:
    """Tell whether any of the words allowed turns to a side; none named means all of them."""
    allowed = [word for word, use in zip(DUBINS_WORDS, words, strict=False) if use]
    return not allowed or any(side in word for word in allowed)


def _moves(
    problem: Problem,
    settings: PlanSettings,
    radius: float,
    reverse: bool,
    bends: tuple[float, ...],
    length: float,
    turn_step: float,
) -> tuple[FloatArray, FloatArray, NDArray[np.int64]]:
    """Return the moves ``(M, K, 3)`` in cells seen from their start, what each costs, and its kind; see the kernel."""
    scale = 1.0 / problem.costmap.grid.cell_size
    bend_radius = radius or length / turn_step
    count = max(int(np.ceil(length / settings.edge_spacing)), 2)
    moves, prices, kinds = [], [], []
    for direction in (1.0, -1.0) if reverse else (1.0,):
        for bend in bends:
            piece = np.zeros((5, 2))
            piece[0] = bend, direction * length / bend_radius
            path = curve_poses(np.zeros(3), piece, bend_radius, length / (count - 1e-6))
            moves.append(path * (scale, scale, 1.0))
            prices.append(1.0 if direction > 0.0 else settings.reverse_price)
            kinds.append(int(direction))
    if radius == 0.0:
        for side in (1.0, -1.0):
            turn = np.zeros((count + 1, 3))
            turn[:, 2] = side * turn_step * np.linspace(0.0, 1.0, count + 1)
            moves.append(turn)
            prices.append(-problem.robot.body.outer_radius * scale * turn_step)
            kinds.append(0)
    return np.stack(moves), np.array(prices), np.array(kinds)


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
