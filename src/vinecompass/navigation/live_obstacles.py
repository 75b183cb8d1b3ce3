"""Obstacles that the scanner sees and the map does not know, remembered for a while."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.grids import Grid, clearance

__all__ = ["LiveObstacles"]

FloatArray = NDArray[np.float64]


class LiveObstacles:
    """Scan points that lie away from everything mapped, forgotten with age.

    Parameters
    ----------
    grid : Grid
    apart : float
        Distance from mapped walls beyond which a point is an obstacle of its own, m.
    memory : float
        Seconds after which a point is forgotten.
    """

    def __init__(self, grid: Grid, *, apart: float, memory: float) -> None:
        self._grid = grid
        self._far_from_walls = (clearance(grid.occupied, grid.cell_size) > apart) & grid.free
        self._memory = memory
        self._seen: list[tuple[float, FloatArray]] = []

    def add(self, t: float, points: FloatArray) -> None:
        """Add a scan's points ``(N, 2)`` in the site frame, and forget old ones."""
        cells = self._grid.cells_at(points)
        on_map = self._grid.contains(cells)
        points, cells = points[on_map], cells[on_map]
        self._seen.append((t, points[self._far_from_walls[cells[:, 0], cells[:, 1]]]))
        self._seen = [(stamp, kept) for stamp, kept in self._seen if t - stamp <= self._memory]

    @property
    def points(self) -> FloatArray:
        """The points remembered ``(N, 2)``, in the site frame, m."""
        return np.concatenate([points for _, points in self._seen]) if self._seen else np.zeros((0, 2))
