"""Dijkstra and A*: the cheapest path over priced cells."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.errors import InputError
from vinecompass.planning.search.kernels import DIAGONAL_SURPLUS, ORIGIN, SETTLED, grow, price_range, trace_back

__all__ = ["Cells", "GridPath", "GridSearch", "Landmarks", "find_grid_path"]

Cells = tuple[int, int]

BOUND_SHARE = 0.99
"""Share of the lower bound that A* trusts in. A bit less than all of it lets every step raise cost plus bound by some
least amount, so that the order within a bucket is free and no cell is expanded twice; measured best of 0.9 to 1."""


@dataclass(frozen=True)
class GridPath:
    """A path over a priced grid.

    Parameters
    ----------
    points : array, (N, 2)
        From start to goal in cells, column before row; empty if there is no way.
    cost : float
        Price times length, in cells; `inf` if there is no way.
    expanded : int
        Cells whose neighbours were looked at.
    came_by : array, (rows, columns), uint8
        16 or more in those cells.
    """

    points: NDArray[np.float64]
    cost: float
    expanded: int
    came_by: NDArray[np.uint8]

    @property
    def cells(self) -> NDArray[np.int64]:
        """Row and column ``(N, 2)`` of the cells that its points lie in."""
        return np.floor(self.points[:, ::-1]).astype(np.int64)

    @property
    def explored(self) -> NDArray[np.bool_]:
        """The cells ``(rows, columns)`` whose neighbours were looked at."""
        return self.came_by >= SETTLED


class Landmarks(NamedTuple):
    """What it costs to get to a few cells from anywhere.

    Parameters
    ----------
    costs : array, (cells, K), float32
        From each cell to each landmark, at most.
    of_target : array, (K,), float32
        From the target.
    share : float
        How much of the difference to trust.
    """

    costs: NDArray[np.float32]
    of_target: NDArray[np.float32]
    share: float


class GridSearch:
    """Cheapest paths from one cell over a priced grid, grown as far as they are asked for.

    Parameters
    ----------
    prices : array, (rows, columns), float32
        Price per unit of length, 1 or more; `inf` is closed. Held, not copied.
    origin : (row, column)
    one_way : array, (rows, columns), float32, optional
        Heading, in the grid's frame, against which no step may go; `nan` where any may.
    bound_share : float
        How much of the octile distance to the target to trust as a lower bound: 0 is Dijkstra's search, which
        can go on to other targets.
    price_range : (float, float), optional
        The lowest and highest open price, where they are known already.

    Raises
    ------
    InputError
        A price is below 1 or `nan`, or the origin lies off the grid.
    """

    def __init__(
        self,
        prices: NDArray[np.float32],
        origin: Cells,
        one_way: NDArray[np.float32] | None = None,
        *,
        bound_share: float = 0.0,
        price_range: tuple[float, float] | None = None,
    ) -> None:
        if prices.ndim != 2:
            raise InputError("is not a table of cells", key="prices", expected="an array (rows, columns)")
        self.prices = prices
        self._one_way = one_way
        self._lowest, self._highest = price_range or check_prices(prices)
        self._bound_share = bound_share
        self._origin = check_cell("start", origin, prices.shape)
        # Unused pages cost nothing: `zeros` and `empty` get them from the system when they are first touched.
        self.costs = np.empty(prices.size)
        self.came_by = np.zeros(prices.size, np.uint8)
        self._frontier = np.zeros(0, np.int64)
        if np.isfinite(prices[origin]):
            self._begin()

    def _begin(self) -> None:
        self.costs[self._origin], self.came_by[self._origin] = 0.0, ORIGIN
        self._frontier = np.array([self._origin])

    def grow(self, target: Cells | None = None, landmarks: Landmarks | None = None) -> int:
        """Go on until a cell (or all) is settled; return how many cells were expanded.

        `landmarks` bound besides what is left to the target; they do not change between one call and the next.
        """
        flat = -1 if target is None else check_cell("goal", target, self.prices.shape)
        width = 0.999 * (1.0 - self._bound_share) * self._lowest
        # In one step the key grows by at most the step's cost and as much again of bound.
        ring = np.sqrt(2.0) * (self._highest + self._lowest) / width + 3.0
        room, total, finished = 1 << 15, 0, len(self._frontier) == 0
        while not finished:
            heads = np.full(1 << int(np.ceil(np.log2(ring))), -1, np.int32)
            keys = self.costs[self._frontier] + self._bounds(self._frontier, flat, landmarks)
            seeds = self._frontier[np.argsort(keys, kind="stable")]
            expanded, self._frontier, finished = grow(
                self.prices,
                self._one_way,
                landmarks,
                self.costs,
                self.came_by,
                seeds,
                flat,
                self._bound_share * self._lowest,
                width,
                heads,
                np.empty((room, 2), np.int32),
            )
            total, room = total + expanded, 8 * room
        return total

    def _bounds(self, cells: NDArray[np.int64], target: int, landmarks: Landmarks | None) -> NDArray[np.float64]:
        """Return what it costs at least from flat cells to a target, as `grow` reckons."""
        away = np.abs(
            np.stack(np.divmod(cells, self.prices.shape[1])) - np.reshape(divmod(target, self.prices.shape[1]), (2, 1))
        )
        bounds = self._bound_share * self._lowest * (away.max(0) + DIAGONAL_SURPLUS * away.min(0))
        if landmarks is None:
            return bounds
        most = np.abs(landmarks.costs[cells] - landmarks.of_target).max(axis=1)
        return np.maximum(bounds, landmarks.share * most)

    def path_to(self, target: Cells) -> NDArray[np.int64]:
        """Return the cells ``(N, 2)`` from the origin to a cell; empty unless it was reached."""
        columns = self.prices.shape[1]
        cell = check_cell("goal", target, self.prices.shape)
        flat = trace_back(self.came_by, cell, columns) if self.came_by[cell] else np.zeros(0, np.int64)
        return np.stack(np.divmod(flat, columns), axis=-1)

    def path(self, cells: NDArray[np.int64], target: Cells, expanded: int) -> GridPath:
        """Return a path over cells' centres at what it costs to get to a cell."""
        came_by = self.came_by.reshape(self.prices.shape)
        return GridPath(cells[:, ::-1].astype(np.float64) + 0.5, self.cost_to(target), expanded, came_by)

    def cost_to(self, target: Cells) -> float:
        """Return what it costs to get to a cell, in cells; `inf` unless it was reached."""
        cell = check_cell("goal", target, self.prices.shape)
        return float(self.costs[cell]) if self.came_by[cell] else float("inf")

    @property
    def explored(self) -> NDArray[np.bool_]:
        """The cells ``(rows, columns)`` expanded so far."""
        return (self.came_by >= SETTLED).reshape(self.prices.shape)


def find_grid_path(
    prices: ArrayLike, start: Cells, goal: Cells, *, one_way: NDArray[np.float32] | None = None, bounded: bool = True
) -> GridPath:
    """Find the cheapest path between two cells of a priced grid.

    Parameters
    ----------
    prices : array_like, (rows, columns)
        Price per unit of length, 1 or more; `inf` is closed.
    start, goal : (row, column)
    one_way : array, (rows, columns), float32, optional
        Heading, in the grid's frame, against which no step may go; `nan` where any may.
    bounded : bool
        Whether to search towards the goal, with the octile distance as lower bound (A*), or evenly all round
        (Dijkstra). The path costs the same.

    Returns
    -------
    GridPath

    Raises
    ------
    InputError
        A price is below 1 or `nan`, or start or goal lies off the grid.

    Notes
    -----
    Dijkstra (1959); Hart, Nilsson and Raphael (1968); eight neighbours, a step costing its length times the mean price
    of its two cells, none past the corner of a closed cell. The open set is a ring of buckets (Dial, 1969), as wide
    as the key's least growth (Denardo and Fox, 1979).

    Examples
    --------
    >>> prices = np.ones((3, 3))
    >>> prices[1, 1] = np.inf
    >>> path = find_grid_path(prices, (0, 0), (2, 2))
    >>> path.cost, len(path.cells)
    (4.0, 5)
    """
    table = np.ascontiguousarray(prices, dtype=np.float32)
    search = GridSearch(table, start, one_way, bound_share=BOUND_SHARE if bounded else 0.0)
    check_cell("goal", goal, table.shape)
    expanded = search.grow(goal) if np.isfinite(table[goal]) else 0
    return search.path(search.path_to(goal), goal, expanded)


def check_prices(prices: NDArray[np.float32]) -> tuple[float, float]:
    """Return the lowest and highest open price (1, 1 if all is closed), or raise `InputError`."""
    lowest, highest = (float(price) for price in price_range(prices.ravel()))
    if not lowest >= 1.0:
        raise InputError("is no price", key="prices", value=lowest, expected="1 or more per unit of length, or inf")
    return (lowest, highest) if np.isfinite(lowest) else (1.0, 1.0)


def check_cell(key: str, cell: Cells, shape: tuple[int, ...]) -> int:
    """Return the flat index of a cell, or raise `InputError`."""
    whole = np.asarray(cell)
    if whole.shape != (2,) or whole.dtype.kind not in "iu":
        raise InputError("is no cell", key=key, value=cell, expected="row, column")
    row, column = cell
    if not (0 <= row < shape[0] and 0 <= column < shape[1]):
        raise InputError("is off the grid", key=key, value=(row, column), expected=f"a cell of {shape}")
    return int(row) * shape[1] + int(column)
