"""Any-angle A*: paths of straight lines that need not follow the grid."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import pairwise

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs.kernels import line_price
from vinecompass.planning.any_angle_kernels import any_angle_path, pull_tight
from vinecompass.planning.cost_to_go import CostToGo
from vinecompass.planning.grid_search import NO_WAYS, Cells, GridSearch, check_cell, check_prices

__all__ = ["AnyAnglePath", "find_any_angle_path"]

OCTILE_EXCESS = np.sqrt(4.0 - 2.0 * np.sqrt(2.0))
"""How much longer than the straight line an eight-way path can be: at an angle of 22.5 degrees, 8 per cent."""

TIGHTENING_ROUNDS = 20


@dataclass(frozen=True)
class AnyAnglePath:
    """A way of straight lines over a priced grid.

    Parameters
    ----------
    points : array, (N, 2)
        Its corners from start to goal in cells, column before row; empty if there is no way.
    cost : float
        Price times length, in cells; `inf` if there is no way.
    expanded : int
        Cells whose neighbours were looked at.
    search : GridSearch
        Knows which cells those were.
    """

    points: NDArray[np.float64]
    cost: float
    expanded: int
    search: GridSearch


def find_any_angle_path(
    prices: ArrayLike, start: Cells, goal: Cells, *, one_way: NDArray[np.float32] | None = None
) -> AnyAnglePath:
    """Find a cheap path of straight lines between cells of a priced grid.

    Parameters
    ----------
    prices : array_like, (rows, columns)
        Price per unit of length, 1 or more; `inf` is closed.
    start, goal : (row, column)
    one_way : array, (rows, columns), float32, optional
        Heading, in the grid's frame, against which no line may go; `nan` where any may.

    Returns
    -------
    AnyAnglePath
        A line costs the integral of the price along it, and touches no closed cell.

    Raises
    ------
    InputError
        As `find_grid_path`.

    Notes
    -----
    Theta* (Daniel, Nash, Koenig and Felner, 2010): a cell may be reached in a straight line from its predecessor's
    own. The lower bound is the cost of the eight-way path from there, which a Dijkstra search from the goal gives for
    all cells, less the eight per cent by which such a path may be longer. In the end the way is pulled tight about the
    corners of closed cells.

    Examples
    --------
    >>> find_any_angle_path(np.ones((4, 8)), (0, 0), (3, 7)).points.tolist()
    [[0.5, 0.5], [7.5, 3.5]]
    """
    table = np.ascontiguousarray(prices, dtype=np.float32)
    check_prices(table)
    first = check_cell("start", start, table.shape)
    field = CostToGo(table, goal, one_way)
    nothing = AnyAnglePath(np.zeros((0, 2)), np.inf, 0, GridSearch(table, start))
    if not (np.isfinite(table[start]) and np.isfinite(table[goal])):
        return nothing
    field.grow(start)
    if not np.isfinite(field.cost_to(start)):
        return nothing
    # Farther from the goal than any cheap detour from the start can lead, nothing is known and nothing needed.
    bounds = np.full(table.size, np.inf)
    np.divide(field.costs, OCTILE_EXCESS, out=bounds, where=field.came_by > 0)
    flat, expanded, explored = any_angle_path(
        table, NO_WAYS if one_way is None else one_way, first, check_cell("goal", goal, table.shape), bounds
    )
    search = GridSearch(table, start)
    search.came_by = explored
    corners = np.stack(np.divmod(flat, table.shape[1]), axis=-1)[:, ::-1] + 0.5
    ways = NO_WAYS if one_way is None else one_way
    points = pull_tight(table, ways, corners, TIGHTENING_ROUNDS)
    return AnyAnglePath(points, sum(line_price(table, ways, *a, *b) for a, b in pairwise(points)), expanded, search)
