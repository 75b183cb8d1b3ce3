"""A grid that scans are added to, and that grows where they reach past its edge."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.grids.grid import DECIDED, Grid
from vinecompass.grids.kernels import integrate_rays, smear

__all__ = ["GrowingGrid"]

MARGIN = 8.0
"""Metres added beyond what is needed when the grid grows, so that it grows seldom."""
CUT_OFF = 2.5
"""Spreads beyond which the likelihood field is 0: it is below 0.05 there."""
LARGEST_SIDE = 20_000
"""Cells. Beams that would need more than this a side come from a wrong unit or a wrong pose."""


class GrowingGrid:
    """Log-odds of occupancy that rays are integrated into.

    Parameters
    ----------
    cell_size : float
        Metres.
    occupied_step, free_step : float
        What one scan adds to the log-odds of a cell its beams end in, and takes from a cell they pass.
    bound : float
        Log-odds stay within plus and minus this, so that the map can still change its mind.
    spread : float
        Standard deviation of the likelihood field, m.

    Attributes
    ----------
    log_odds : array, (rows, columns), float32
    likelihood : array, (rows, columns), float32
        The likelihood field of the grid as it is now, renewed only where a scan changed something, and cut off at
        two and a half times its spread. Unlike `vinecompass.grids.likelihood_field`, each occupied cell counts
        from the mean of the beams that ended in it, not from its centre.
    hit_sums : array, (rows, columns, 3), float32
        Where in each cell the hits so far lie: the sums of x and y, in cells from its corner, and how many.
    corner : array, (2,)
        The outer corner of cell ``[0, 0]``, m.
    """

    def __init__(
        self, cell_size: float, *, occupied_step: float, free_step: float, bound: float, spread: float
    ) -> None:
        self.cell_size = cell_size
        self.log_odds: NDArray[np.float32] = np.zeros((0, 0), np.float32)
        self.likelihood = self.log_odds.copy()
        self.corner = np.zeros(2)
        self._steps = (np.float32(occupied_step), np.float32(free_step), np.float32(bound))
        self._stamps = np.zeros((0, 0), np.int32)
        self._scans = 0
        self.hit_sums = np.zeros((0, 0, 3), np.float32)
        self._spread = spread / cell_size

    def add(self, hits: NDArray[np.float64], origins: NDArray[np.float64], ends: NDArray[np.float64]) -> int:
        """Add one scan; each cell changes at most once.

        Parameters
        ----------
        hits : array, (H, 2)
            Where beams ended on something, in the grid's frame, m.
        origins, ends : array, (N, 2)
            Where each beam started, and how far it is trusted to have passed through nothing, m.

        Returns
        -------
        int
            Cells walked.
        """
        if len(origins) == 0:
            return 0
        everything = np.concatenate([hits, origins, ends])
        lowest, highest = everything.min(0), everything.max(0)
        self._grow(lowest, highest)
        self._scans += 1
        scale = 1.0 / self.cell_size
        walked = integrate_rays(
            self.log_odds, self.hit_sums, self._stamps, self._scans,
            (hits - self.corner) * scale, (origins - self.corner) * scale, (ends - self.corner) * scale, *self._steps,
        )  # fmt: skip
        reach = int(np.ceil(CUT_OFF * self._spread))
        first = np.maximum(np.floor((lowest - self.corner) * scale).astype(int) - reach, 0)[::-1]
        last = np.minimum(np.floor((highest - self.corner) * scale).astype(int)[::-1] + reach + 1, self.log_odds.shape)
        smear(
            self.log_odds, self.hit_sums, self.likelihood, np.float32(DECIDED), np.float32(self._spread), reach,
            first[0], last[0], first[1], last[1],
        )  # fmt: skip
        return int(walked)

    def snapshot(self) -> Grid:
        """Return a copy as a `Grid`, cropped to the cells observed so far."""
        observed = np.argwhere(self.log_odds != 0.0)
        if len(observed) == 0:
            raise InputError("no beam has returned, so there is no map", expected="scans with ranges inside reach")
        (row, column), (last_row, last_column) = observed.min(0), observed.max(0) + 1
        corner = self.corner + np.array([column, row]) * self.cell_size
        log_odds = self.log_odds[row:last_row, column:last_column].copy()
        return Grid(log_odds, self.cell_size, (float(corner[0]), float(corner[1])))

    def _grow(self, lowest: NDArray[np.float64], highest: NDArray[np.float64]) -> None:
        """Make room for points from `lowest` to `highest`; cells stay where they are on the floor."""
        rows, columns = self.log_odds.shape
        if rows == 0:
            self.corner = np.floor(lowest / self.cell_size) * self.cell_size
        extent = self.corner + np.array([columns, rows]) * self.cell_size
        if rows and np.all(lowest >= self.corner) and np.all(highest < extent):
            return
        margin = int(np.ceil(MARGIN / self.cell_size))
        before = np.ceil((self.corner - lowest) / self.cell_size).astype(int)
        after = np.floor((highest - extent) / self.cell_size).astype(int) + 1
        before, after = (np.where(need > 0, need + margin, 0) for need in (before, after))
        shape = np.array([rows, columns]) + (before + after)[::-1]
        if shape.max() > LARGEST_SIDE:
            raise InputError(
                f"beams reach {shape.max() * self.cell_size:.0f} m across the map",
                expected=f"at most {LARGEST_SIDE * self.cell_size:.0f} m; is a unit or a pose wrong?",
            )
        pad = ((before[1], after[1]), (before[0], after[0]))
        self.log_odds = np.pad(self.log_odds, pad)
        self.likelihood = np.pad(self.likelihood, pad)
        self.hit_sums = np.pad(self.hit_sums, (*pad, (0, 0)))
        self._stamps = np.pad(self._stamps, pad)
        self.corner = self.corner - before * self.cell_size
