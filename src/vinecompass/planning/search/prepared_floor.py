"""A floor made ready for many queries: what it costs to get to a few landmarks bounds every search."""

from __future__ import annotations

from concurrent.futures import ThreadPoolExecutor

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy import ndimage

from vinecompass.costs import CostMap
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.planning.search.grid_search import Cells, GridPath, GridSearch, Landmarks, check_cell, check_prices

__all__ = ["PreparedFloor"]

SPOTS = ((0.0, 0.0), (0.0, 1.0), (1.0, 0.0), (1.0, 1.0), (0.0, 0.5), (0.5, 0.0))
"""Shares of the open floor's rows and columns, to which landmarks lie as near as can be."""
BOUND_SHARE = 0.997
"""Share of a lower bound that is trusted in; measured best of 0.98 to 0.997."""
LANDMARK_SHARE = 0.9965
"""The same of what landmarks say: their costs are rounded, and the bound must not fall faster than costs rise."""
LOOKED_ABOUT = 64
"""Cells about a spot in which a landmark is looked for first."""
CORES = 2


class PreparedFloor:
    """A priced floor on which many cheapest paths are asked for.

    Parameters
    ----------
    costmap : CostMap
        Its prices are copied.

    Notes
    -----
    A* bounded by landmarks as well as by the octile distance (ALT: Goldberg and Harrelson, 2005). What landmarks say
    holds as long as no floor is cheaper than when it was prepared: where something was seen, it is dearer, and where
    that is gone again, as it was. Once a change makes floor cheaper than that, only the octile distance is used, until
    the floor is prepared again.

    Examples
    --------
    >>> from vinecompass import Grid, demo_file, price_floor, read_robot
    >>> robot = read_robot(demo_file("robot.toml"))
    >>> floor = PreparedFloor(price_floor(Grid(np.full((80, 120), -3.0, np.float32), cell_size=0.05), robot))
    >>> floor.path((40, 20), (40, 100)).cost
    80.0
    """

    @checked
    def __init__(self, costmap: CostMap) -> None:
        self.prices = costmap.prices.copy()
        self._one_way = costmap.one_way
        self._base = costmap.prices.copy()
        self._price_bounds = check_prices(self.prices)
        self._landmarks = _costs_to_landmarks(self._base)

    @property
    def bounded_by_landmarks(self) -> bool:
        """Whether landmarks still hold: no floor is cheaper than when it was prepared."""
        return self._landmarks is not None

    def path(self, start: Cells, goal: Cells) -> GridPath:
        """Return the cheapest path between two cells, as `find_grid_path` does.

        Raises
        ------
        InputError
            Start or goal lies off the grid.
        """
        target = check_cell("goal", goal, self.prices.shape)
        search = GridSearch(self.prices, start, self._one_way, bound_share=BOUND_SHARE, price_range=self._price_bounds)
        costs = self._landmarks
        landmarks = None if costs is None else Landmarks(costs, costs[target].copy(), LANDMARK_SHARE)
        expanded = search.grow(goal, landmarks) if np.isfinite(self.prices[goal]) else 0
        return search.path(search.path_to(goal), goal, expanded)

    def change(self, first: Cells, prices: ArrayLike) -> None:
        """Replace the prices of a window, ``(rows, columns)``, from its first cell on.

        Raises
        ------
        InputError
            The window reaches off the grid, or a price is below 1 or `nan`.
        """
        window = np.asarray(prices, dtype=np.float32)
        check_cell("first", first, self.prices.shape)
        block = np.s_[first[0] : first[0] + window.shape[0], first[1] : first[1] + window.shape[1]]
        if window.ndim != 2 or self.prices[block].shape != window.shape:
            raise InputError("reaches off the grid", key="prices", value=window.shape, expected="a window of cells")
        lowest, highest = check_prices(window)
        self.prices[block] = window
        if np.any(np.isfinite(window)):
            self._price_bounds = (min(self._price_bounds[0], lowest), max(self._price_bounds[1], highest))
        if np.any(window < self._base[block]):
            self._landmarks = None


def _costs_to_landmarks(prices: NDArray[np.float32]) -> NDArray[np.float32] | None:
    """Return what it costs from each cell to each landmark ``(cells, K)``; 0 on floor that is apart from them.

    One-way zones do not count: without them no way is dearer, so that the bound still holds.
    """
    labels, count = ndimage.label(np.isfinite(prices))
    if count == 0:
        return None
    largest = labels == np.argmax(np.bincount(labels.ravel())[1:]) + 1
    rows, columns = (np.flatnonzero(largest.any(axis=axis)) for axis in (1, 0))
    low, high = np.array([rows[0], columns[0]]), np.array([rows[-1], columns[-1]])
    costs = np.zeros((prices.size, len(SPOTS)), np.float32)

    def fill(k: int) -> None:
        search = GridSearch(prices, _nearest_cell(largest, low + np.array(SPOTS[k]) * (high - low)))
        search.grow()
        costs[:, k] = np.where(search.came_by > 0, search.costs, 0.0)

    with ThreadPoolExecutor(CORES) as cores:
        list(cores.map(fill, range(len(SPOTS))))
    return costs


def _nearest_cell(cells: NDArray[np.bool_], spot: NDArray[np.float64]) -> Cells:
    """Return the cell of some that is nearest to a place."""
    reach = LOOKED_ABOUT
    while True:
        first = np.maximum(spot - reach, 0).astype(int)
        near = np.argwhere(cells[first[0] : int(spot[0]) + reach + 1, first[1] : int(spot[1]) + reach + 1]) + first
        away = np.abs(near - spot).max(axis=1)
        if len(near) and away.min() <= reach:
            row, column = near[int(np.argmin(away))]
            return int(row), int(column)
        reach *= 4
