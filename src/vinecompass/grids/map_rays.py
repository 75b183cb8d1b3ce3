"""Beams cast into a map: how far each would reach."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.ndimage import binary_dilation, binary_opening

from vinecompass.grids.clearance import clearance, likelihood_at
from vinecompass.grids.grid import Grid
from vinecompass.grids.kernels import march_rays

__all__ = ["MapRays"]

SOLID, SOLID_CELLS = 0.15, 3
"""Metres and cells of thickness, both at least, from which a thing has an inside that no beam ends in."""


class MapRays:
    """A map made ready for beams to be cast into it.

    Parameters
    ----------
    grid : Grid

    Attributes
    ----------
    distance : array, (rows, columns), float32
        From each cell to the nearest occupied one, in cells.
    surface : array of bool, (rows, columns)
        The occupied cells without the insides of solid things.

    Notes
    -----
    Rays leap as far as the nearest occupied cell is away (sphere tracing: Hart, 1996), so a beam across a hall costs
    a dozen looks at the map.

    Examples
    --------
    >>> cells = np.full((3, 40), -2.0, np.float32)
    >>> cells[:, 30] = 2.0
    >>> rays = MapRays(Grid(cells, cell_size=0.1))
    >>> rays.ranges([[0.55, 0.15, 0.0]], [0.0, np.pi], farthest=5.0).round(1).tolist()
    [[2.5, inf]]
    """

    def __init__(self, grid: Grid) -> None:
        self._grid = grid
        self._cell_size = grid.cell_size
        self._frame = grid.frame
        self.distance = clearance(grid.occupied, 1.0)
        self.surface = surface_of(grid)
        self._to_surface = clearance(self.surface, grid.cell_size)

    def to_cells(self, poses: ArrayLike) -> NDArray[np.float64]:
        """Return site poses ``(N, 3)`` in the map's own frame, x and y in cells."""
        # Written out, as `relative` with the one frame would find the same sine for every pose, and wrap headings.
        p = np.asarray(poses, dtype=float)
        x, y, turn = self._frame
        cosine, sine = np.cos(turn) / self._cell_size, np.sin(turn) / self._cell_size
        local = np.empty(p.shape)
        dx, dy = p[..., 0] - x, p[..., 1] - y
        local[..., 0], local[..., 1] = cosine * dx + sine * dy, cosine * dy - sine * dx
        local[..., 2] = p[..., 2] - turn
        return local

    def clearance_at(self, points: ArrayLike) -> NDArray[np.float32]:
        """Return the distance of site points ``(N, 2)`` to the nearest occupied cell, m; 0 off the map."""
        return self._grid.values_at(points, self.distance, outside=0.0) * np.float32(self._cell_size)

    def likelihood_field(self, spread: float) -> NDArray[np.float32]:
        """Return the likelihood field ``(rows, columns)`` of the map's `surface`; see `likelihood_field`.

        No beam ends inside a solid thing, so no pose may fit the better for standing in one.
        """
        return likelihood_at(self._to_surface, spread)

    def ranges(self, poses: ArrayLike, angles: ArrayLike, *, farthest: float) -> NDArray[np.float32]:
        """Return how far beams reach before they meet an occupied cell.

        Parameters
        ----------
        poses : array_like, (N, 3)
            Of the sensor, in the site frame.
        angles : array_like, (M,)
            Of the beams, from the sensor's heading, radians.
        farthest : float
            Metres.

        Returns
        -------
        array, (N, M), float32
            Metres; `inf` where nothing is in the way within `farthest`, or the beam leaves the map.
        """
        cells = march_rays(
            self.distance, self.to_cells(poses), np.asarray(angles, dtype=float), farthest / self._cell_size
        )
        return cells * np.float32(self._cell_size)


def surface_of(grid: Grid) -> NDArray[np.bool_]:
    """Return the occupied cells ``(rows, columns)`` that a beam may end in: of solid things, those beside free floor.

    Were their insides taken for surface as well, as in a drawn map, a pose too near to a wall would fit as well as the
    right one. Walls mapped by a scanner are thin, with hits scattered all through them: of these, all cells.
    """
    thick = max(round(SOLID / grid.cell_size), SOLID_CELLS)
    solid = binary_opening(grid.occupied, np.ones((thick, thick), bool))
    beside_free = binary_dilation(grid.free, np.ones((3, 3), bool))
    return np.asarray(grid.occupied & (~solid | beside_free))
