"""Replanning: the cheapest way to one goal from anywhere, mended where prices change."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.planning.search.grid_search import Cells, GridPath, GridSearch
from vinecompass.planning.search.kernels import take_back

__all__ = ["CostToGo"]


PATIENT_ROUNDS = 4
"""Times that as little as may do is taken back, before all that is in doubt is."""


class CostToGo(GridSearch):
    """The cheapest way from any cell to one goal, kept up to date as prices change.

    Parameters
    ----------
    prices : array_like, (rows, columns)
        Price per unit of length, 1 or more; `inf` is closed. Copied.
    goal : (row, column)
    one_way : array, (rows, columns), float32, optional
        Heading, in the grid's frame, against which no step may go; `nan` where any may.

    Notes
    -----
    Paths are grown from the goal (Dijkstra, 1959), only as far as the robot. Where prices change, what was reached
    through there is taken back and grown anew from its rim (Ramalingam and Reps, 1996), and only as far from the goal
    as the robot is (the thought of D* Lite, Koenig and Likhachev, 2002): what lies behind it stays in doubt.

    Why `plan` ends, and is right: what is in doubt at a cost above the robot's is on no way of the robot, whose cells
    all cost less; so with nothing else left in doubt its way leads to the goal, and as Dijkstra's search grows from all
    that borders on it, no cheaper way is missed. Cells in doubt may for a while be reached through each other alone,
    at rising costs, where the robot is cut off. So after a few rounds all that is in doubt is taken back with whatever
    was reached through it, at any cost: then nothing is in doubt, and the next round is the last.

    Examples
    --------
    >>> field = CostToGo(np.ones((3, 9)), (1, 8))
    >>> field.plan((1, 0)).cost
    8.0
    >>> field.change((1, 2), [[np.inf]])
    >>> round(field.plan((1, 0)).cost, 3)
    8.828
    """

    @checked
    def __init__(self, prices: ArrayLike, goal: Cells, one_way: NDArray[np.float32] | None = None) -> None:
        # Grown backwards: what may not be driven against may not be grown along.
        backward = None if one_way is None else (one_way + np.float32(np.pi)).astype(np.float32)
        with np.errstate(over="ignore"):
            held = np.array(prices, dtype=np.float32, order="C")
        super().__init__(held, goal, backward)
        self._pending = np.zeros(0, np.int64)
        self._pending_costs = np.zeros(0)

    def plan(self, start: Cells) -> GridPath:
        """Return the cheapest path from a cell to the goal."""
        expanded = self.grow(start)
        rounds = 0
        while np.any(doubtful := self._pending_costs <= self.cost_to(start)):
            rounds += 1
            limit = self.cost_to(start) if rounds <= PATIENT_ROUNDS else np.inf
            cells, known = self._pending[doubtful], self._pending_costs[doubtful]
            self._pending = self._pending[~doubtful]
            self._pending_costs = self._pending_costs[~doubtful]
            # Those reached anew in the meantime, at another cost, are no longer in doubt.
            stale = (self.came_by[cells] > 0) & (self.costs[cells] == known)
            self._take_back(np.unique(cells[stale]), limit)
            expanded += self.grow(start)
        return self.path(self.path_to(start)[::-1], start, expanded)

    def _take_back(self, roots: NDArray[np.int64], limit: float) -> None:
        beside, beyond = take_back(self.prices.shape, self.costs, self.came_by, roots, limit)
        left = self._frontier[(self.came_by[self._frontier] > 0) & (self.came_by[self._frontier] < 16)]
        self._frontier = np.concatenate([beside, left])
        self._pending = np.concatenate([self._pending, beyond])
        self._pending_costs = np.concatenate([self._pending_costs, self.costs[beyond]])

    def change(self, first: Cells, prices: ArrayLike) -> None:
        """Replace the prices in a window of cells that begins at row and column `first`.

        Raises
        ------
        InputError
            The window does not lie on the grid, or a price is below 1 or `nan`.
        """
        block = np.asarray(prices, dtype=np.float32)
        low, high = np.array(first), np.array(first) + block.shape
        rows, columns = self.prices.shape
        if not (np.all(low >= 0) and np.all(high <= (rows, columns))):
            raise InputError("lies off the grid", key="first", value=first, expected=f"a window in {rows, columns}")
        if not np.all(block >= 1.0):
            raise InputError("is no price", key="prices", value=float(block.min()), expected="1 or more, or inf")
        window = tuple(slice(a, b) for a, b in zip(low, high, strict=True))
        changed = np.argwhere(self.prices[window] != block)
        if len(changed) == 0:
            return
        self.prices[window] = block
        self._highest = max(self._highest, float(block.max(initial=1.0, where=np.isfinite(block))))
        self._lowest = min(self._lowest, float(block.min()))
        # A step costs by both its cells, and goes past two more: one cell more on each side.
        low, high = np.maximum(low + changed.min(0) - 1, 0), np.minimum(low + changed.max(0) + 2, (rows, columns))
        rows_changed, columns_changed = np.mgrid[low[0] : high[0], low[1] : high[1]]
        cells = (rows_changed * columns + columns_changed).ravel()
        # What was reached through the window is in doubt, but only mended as far as the robot will ask for it.
        self._take_back(cells[self.came_by[cells] > 0], -1.0)
        if not np.isfinite(self.prices.flat[self._origin]):
            self.came_by[:] = 0
            self._frontier = self._frontier[:0]
            self._pending = self._pending[:0]
            self._pending_costs = np.zeros(0)
        elif self.came_by[self._origin] == 0:
            self._begin()
