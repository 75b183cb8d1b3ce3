"""What the map closes and is gone: beams pass there again and again, and none ends there."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vinecompass.costs.gone_kernels import count_passes
from vinecompass.grids import CLOSED_BY_HAND, Beams, Grid

__all__ = ["GoneWalls"]

FloatArray = NDArray[np.float64]
PASSED_BY = 10
"""Scans that must have passed a cell, with none in between that ended there, for what stood there to be gone."""
APART = 0.3
"""Seconds between two scans that are counted: the next one sees much the same."""
GAP, LEAST_AREA = 5, 0.05
"""Cells between beams that are taken for passed as well, and square metres that what is gone has at least."""
ABOUT = 2.0
"""Metres about cells that were passed in which what they belong to is looked for."""
IN_DOUBT_WITHIN = 1.0
"""Metres about a point in which beams may begin to pass."""


class GoneWalls:
    """Looks for occupied cells of a map in which nothing stands any more.

    What a person closed by hand stays closed, whatever beams do there: a stair or a pane of glass is not seen.

    Parameters
    ----------
    grid : Grid

    Attributes
    ----------
    mask : array of bool, (rows, columns)
        The cells found gone.
    """

    def __init__(self, grid: Grid) -> None:
        self._grid = grid
        self._occupied = grid.occupied & (grid.log_odds < CLOSED_BY_HAND)
        self._passes = np.zeros(grid.shape, np.int32)
        self._counted = np.full(grid.shape, -1, np.int32)
        self._scans = 0
        self._last = -np.inf
        self.mask = np.zeros(grid.shape, bool)

    def see(self, t: float, pose: FloatArray, beams: Beams) -> NDArray[np.int64]:
        """Take in a scan's beams, from a body at a pose ``(3,)`` in the site frame.

        Returns
        -------
        array, (M, 2)
            Row and column of the cells that are found gone now.
        """
        if t - self._last < APART:
            return np.zeros((0, 2), np.int64)
        self._last = t
        self._scans += 1
        origins, ends = beams.in_cells(self._grid, pose)
        new = count_passes(
            self._passes, self._counted, self._scans, self._occupied, origins, ends, beams.hit, PASSED_BY
        )
        if len(new) == 0:
            return new
        about = round(ABOUT / self._grid.cell_size)
        low = np.maximum(new.min(axis=0) - about, 0)
        part = tuple(slice(a, b) for a, b in zip(low.tolist(), (new.max(axis=0) + about + 1).tolist(), strict=True))
        # Beams leave gaps between them; and at a corner, one that grazes it may seem to pass.
        whole = ndimage.binary_closing(self._passes[part] >= PASSED_BY, np.ones((GAP, GAP), bool))
        whole &= self._occupied[part] & (self._passes[part] >= 0)
        labels, _ = ndimage.label(whole, np.ones((3, 3)))
        large = np.bincount(labels.ravel()) * self._grid.cell_size**2 >= LEAST_AREA
        large[0] = False
        found = low + np.argwhere(large[labels] & ~self.mask[part])
        self.mask[tuple(found.T)] = True
        return found

    def in_doubt(self, x: float, y: float) -> bool:
        """Tell whether beams begin to pass what the map has about a point, in the site frame, m."""
        first, last = self._grid.window_about(np.array([x, y]), IN_DOUBT_WITHIN)
        return bool(np.any(self._passes[first[0] : last[0], first[1] : last[1]] > 0))
