"""Any-angle A*: paths of straight lines that need not follow the grid."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs.kernels import NO_WAYS, line_price
from vinecompass.planning.search.any_angle_kernels import any_angle_path, pull_tight
from vinecompass.planning.search.cost_to_go import CostToGo
from vinecompass.planning.search.grid_search import Cells, GridPath, check_cell

__all__ = ["find_any_angle_path"]

OCTILE_EXCESS = np.sqrt(4.0 - 2.0 * np.sqrt(2.0))
"""How much longer than the straight line an eight-way path can be: at an angle of 22.5 degrees, 8 per cent."""

TIGHTENING_ROUNDS = 20


def find_any_angle_path(
    prices: ArrayLike, start: Cells, goal: Cells, *, one_way: NDArray[np.float32] | None = None
) -> GridPath:
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
    GridPath
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
    first = check_cell("start", start, table.shape)
    field = CostToGo(table, goal, one_way)
    if np.isfinite(table[start]):
        field.grow(start)
    if not np.isfinite(field.cost_to(start)):
        return GridPath(np.zeros((0, 2)), np.inf, 0, np.zeros(table.shape, np.uint8))
    # Farther from the goal than any cheap detour from the start can lead, nothing is known and nothing needed.
    bounds = np.full(table.size, np.inf)
    np.divide(field.costs, OCTILE_EXCESS, out=bounds, where=field.came_by > 0)
    ways = NO_WAYS if one_way is None else one_way
    flat, expanded, explored = any_angle_path(table, ways, first, check_cell("goal", goal, table.shape), bounds)
    corners = np.stack(np.divmod(flat, table.shape[1]), axis=-1)[:, ::-1] + 0.5
    points = pull_tight(table, ways, corners, TIGHTENING_ROUNDS)
    cost = sum(line_price(table, ways, *a, *b) for a, b in pairwise(points))
    return GridPath(points, cost, expanded, explored.reshape(table.shape))
