"""A small grid of what beams hit, for scans to be matched to."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.matching.kernels import add_hits

__all__ = ["WallGrid", "oriented_cells"]

CUT_OFF = 2.5
"""Spreads beyond which the likelihood field is 0: it is below 0.05 there."""


class WallGrid:
    """Where beams ended, cell by cell, and the smooth likelihood field about it.

    Parameters
    ----------
    low, high : array_like, (2,)
        The corners it reaches to, in its own frame, m. What lies beyond is left out.
    cell_size : float
        Metres.
    spread : float
        Standard deviation of the likelihood field, m.

    Attributes
    ----------
    corner : array, (2,)
        The outer corner of cell ``[0, 0]``, m.
    hit_sums : array, (rows, columns, 5), float32
        Where in each cell the hits lie: the sums of x and y, in cells from its corner, how many, and the sums of their
        normals.
    field : array, (rows, columns), float32
        The likelihood field: 1 at the mean hit of a cell, falling off as a Gaussian, 0 beyond two and a half spreads.
    """

    def __init__(self, low: ArrayLike, high: ArrayLike, *, cell_size: float, spread: float) -> None:
        self.cell_size = cell_size
        self._spread = spread / cell_size
        self._reach = int(np.ceil(CUT_OFF * self._spread))
        border = (self._reach + 1) * cell_size
        self.corner = np.floor((np.asarray(low, dtype=float) - border) / cell_size) * cell_size
        columns, rows = np.ceil((np.asarray(high, dtype=float) + border - self.corner) / cell_size).astype(int)
        self.hit_sums: NDArray[np.float32] = np.zeros((rows, columns, 5), np.float32)
        self.field: NDArray[np.float32] = np.zeros((rows, columns), np.float32)

    @classmethod
    def of_points(cls, points: NDArray[np.float64], *, cell_size: float, spread: float) -> WallGrid:
        """Return a grid that just holds some points ``(N, 2)`` or ``(N, 4)``, given in its frame, m."""
        xy = points[:, :2]
        grid = cls(xy.min(axis=0), xy.max(axis=0), cell_size=cell_size, spread=spread)
        grid.add(points)
        return grid

    def add(self, points: NDArray[np.float64]) -> None:
        """Add what beams hit, in the grid's frame, m: ``(N, 2)``, or oriented points ``(N, 4)``."""
        cells = oriented_cells((points[:, :2] - self.corner) / self.cell_size, points)
        add_hits(self.hit_sums, self.field, cells, self._spread, self._reach)


def oriented_cells(cells: NDArray[np.floating], points: NDArray[np.floating]) -> NDArray[np.float64]:
    """Return where points lie in cells ``(N, 2)`` with their normals ``(N, 4)``: 0, 0 if they are not oriented."""
    result = np.zeros((len(points), 4))
    result[:, :2], result[:, 2 : points.shape[1]] = cells, points[:, 2:]
    return result
