"""The occupancy grid: square cells that hold the log-odds of being occupied."""

from __future__ import annotations

from dataclasses import dataclass
from math import ceil, floor
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.comparing import ByValue
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import check_length, checked_pose, inverse, relative, transform_points
from vinecompass.grids.map_doubt import MapDoubt

__all__ = ["BY_HAND", "CLOSED_BY_HAND", "DECIDED", "MOST_CELLS", "Grid"]

DECIDED = 0.4
"""Log-odds beyond which a cell reads as free or occupied (a probability of 0.6); in between it is unknown."""
CLOSED_BY_HAND = 7.0
"""Log-odds from which a cell was closed by a person, and stays closed whatever beams do: they never count so much."""
BY_HAND = CLOSED_BY_HAND + 1.0
"""Log-odds that a cell is given that a person closes."""
MOST_CELLS = 350_000_000
"""Cells that a map may have: most of a square kilometre at 0.05 m. More are refused before memory is asked for."""


@checked
@dataclass(frozen=True, eq=False, repr=False)
class Grid(ByValue):
    """A rectangle of square cells over the floor of a site.

    Parameters
    ----------
    log_odds : array, (rows, columns), float32
        Log-odds of being occupied, natural logarithm; 0 is "never observed". Row 0 lies at the lowest y.
    cell_size : float
        Side of a cell, m.
    corner : (x, y)
        The outer corner of cell ``[0, 0]`` in the site frame, m.
    turn : float
        Heading of the grid's columns axis in the site frame, radians.
    doubt : MapDoubt, optional
        How far its places may lie from where it has them; None if it was not made on a drive.

    Examples
    --------
    >>> grid = Grid(np.zeros((2, 3), np.float32), cell_size=0.5, corner=(1.0, 2.0))
    >>> grid.cells_at([[1.1, 2.9]]).tolist()
    [[1, 0]]
    >>> grid.points_of([[1, 0]]).tolist()
    [[1.25, 2.75]]
    """

    log_odds: NDArray[np.float32]
    cell_size: float
    corner: tuple[float, float] = (0.0, 0.0)
    turn: float = 0.0
    doubt: MapDoubt | None = None

    def __repr__(self) -> str:
        """Return it in one line."""
        rows, columns = self.shape
        wide, high = columns * self.cell_size, rows * self.cell_size
        return f"<Grid of {columns} x {rows} cells of {self.cell_size:g} m: {wide:.1f} m x {high:.1f} m>"

    def __post_init__(self) -> None:
        if not isinstance(self.log_odds, np.ndarray):
            with np.errstate(over="ignore"):
                object.__setattr__(self, "log_odds", np.asarray(self.log_odds, dtype=np.float32))
        if self.log_odds.ndim != 2 or self.log_odds.size == 0:
            raise InputError("is not a table of cells", key="log_odds", expected="an array (rows, columns)")
        # One sum over all cells tells, and takes no memory.
        if not np.isfinite(np.sum(self.log_odds, dtype=np.float64)):
            raise InputError("is not finite", key="log_odds", expected="a number in each cell")
        check_length(self.cell_size, "cell_size")

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns."""
        rows, columns = self.log_odds.shape
        return rows, columns

    @property
    def frame(self) -> NDArray[np.float64]:
        """The grid's own frame ``(3,)`` in the site frame: at the corner, turned by `turn`."""
        return np.array([*self.corner, self.turn])

    @property
    def occupied(self) -> NDArray[np.bool_]:
        """Cells ``(rows, columns)`` that read as occupied."""
        return self.log_odds > DECIDED

    @property
    def free(self) -> NDArray[np.bool_]:
        """Cells ``(rows, columns)`` that read as free."""
        return self.log_odds < -DECIDED

    @property
    def unknown(self) -> NDArray[np.bool_]:
        """Cells ``(rows, columns)`` never observed, or observed without a decision."""
        return np.abs(self.log_odds) <= DECIDED

    def cells_at(self, points: ArrayLike) -> NDArray[np.int64]:
        """Return row and column ``(..., 2)`` of site points ``(..., 2)``; off the grid they run on past its edge."""
        local = transform_points(inverse(self.frame), points) / self.cell_size
        return np.floor(local[..., ::-1]).astype(np.int64)

    def points_of(self, cells: ArrayLike) -> NDArray[np.float64]:
        """Return the centres ``(..., 2)`` in the site frame of cells ``(..., 2)`` given as row, column."""
        local = (np.asarray(cells, dtype=float)[..., ::-1] + 0.5) * self.cell_size
        return transform_points(self.frame, local)

    @property
    def corner_points(self) -> NDArray[np.float64]:
        """The corners ``(4, 2)`` of the rectangle in the site frame, m, counter-clockwise from `corner`."""
        rows, columns = self.shape
        cells = np.array([[0.0, 0.0], [columns, 0.0], [columns, rows], [0.0, rows]])
        return transform_points(self.frame, cells * self.cell_size)

    def window_about(self, point: ArrayLike, reach: float) -> tuple[NDArray[np.int64], NDArray[np.int64]]:
        """Return the first row and column, and those after the last, of the cells within a reach of a site point, m."""
        x, y, _ = relative((*np.asarray(point, dtype=float).tolist(), 0.0), self.frame).tolist()
        margin = ceil(reach / self.cell_size) + 1
        cell = floor(y / self.cell_size), floor(x / self.cell_size)
        first = [min(max(at - margin, 0), side) for at, side in zip(cell, self.shape, strict=True)]
        last = [min(max(at + margin + 1, 0), side) for at, side in zip(cell, self.shape, strict=True)]
        return np.array(first), np.array(last)

    def values_at(self, points: ArrayLike, values: NDArray[Any], outside: float | bool) -> NDArray[Any]:
        """Return what an array ``(rows, columns)`` over the grid holds at site points ``(N, 2)``."""
        cells = self.cells_at(points)
        inside = self.contains(cells)
        found = np.full(len(cells), outside, values.dtype)
        found[inside] = values[tuple(cells[inside].T)]
        return found

    def pose_on_map(self, pose: ArrayLike, key: str) -> NDArray[np.float64]:
        """Return a pose ``(3,)`` in the site frame, or raise `InputError` if it is none, or lies off the map."""
        checked = checked_pose(pose, key)
        if not self.contains(self.cells_at(checked[None, :2]))[0]:
            told = [round(float(value), 3) for value in checked]
            raise InputError("lies off the map", key=key, value=told, expected="x, y on the map")
        return checked

    def contains(self, cells: NDArray[np.int64]) -> NDArray[np.bool_]:
        """Tell which cells ``(N, 2)`` lie inside the grid."""
        return np.all((cells >= 0) & (cells < self.shape), axis=-1)

    def occupied_points(self) -> NDArray[np.float64]:
        """Return the centres ``(N, 2)`` of the occupied cells in the site frame, m."""
        return self.points_of(np.argwhere(self.occupied))
