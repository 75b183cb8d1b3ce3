"""Clearance: the distance of every cell to the nearest occupied one, and the likelihood field made of it."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import check_length
from vinecompass.grids.kernels import squared_distance

__all__ = ["clearance", "likelihood_at", "likelihood_field"]

Sides = tuple[bool, bool, bool, bool]


@checked
def clearance(occupied: ArrayLike, cell_size: float, *, closed_beyond: bool | Sides = False) -> NDArray[np.float32]:
    """Return the exact Euclidean distance from each cell's centre to the centre of the nearest occupied cell.

    Parameters
    ----------
    occupied : array_like of bool, (rows, columns)
    cell_size : float
        Metres.
    closed_beyond : bool, or four of them
        Whether what lies off the grid counts as occupied, too: all round, or at its first row, after its last row, at
        its first column and after its last one.

    Returns
    -------
    array, (rows, columns), float32
        Metres; 0 in occupied cells, `inf` everywhere if none is occupied.

    Notes
    -----
    Two passes, one along each axis, the second over the lower envelope of parabolas (Felzenszwalb and
    Huttenlocher, 2012, "Distance transforms of sampled functions").

    Examples
    --------
    >>> clearance([[True, False, False]], 0.05).round(2).tolist()
    [[0.0, 0.05000000074505806, 0.10000000149011612]]
    """
    check_length(cell_size, "cell_size")
    mask = np.ascontiguousarray(occupied, dtype=np.bool_)
    if mask.ndim != 2:
        raise InputError("is not a table of cells", key="occupied", expected="an array (rows, columns)")
    distance = np.sqrt(squared_distance(mask)) * np.float32(cell_size)
    sides = (closed_beyond,) * 4 if isinstance(closed_beyond, bool) else closed_beyond
    return np.minimum(distance, _to_edges(mask.shape, cell_size, sides)) if any(sides) else distance


def _to_edges(shape: tuple[int, ...], cell_size: float, sides: Sides) -> NDArray[np.float32]:
    """Return the distance of each cell's centre to that of the nearest cell beyond some sides of the grid, m."""
    rows, columns = (np.arange(1.0, count + 1.0, dtype=np.float32) * np.float32(cell_size) for count in shape)
    nothing = np.float32(np.inf)
    up = np.minimum(rows if sides[0] else nothing, rows[::-1] if sides[1] else nothing)
    along = np.minimum(columns if sides[2] else nothing, columns[::-1] if sides[3] else nothing)
    return np.minimum(np.reshape(up, (-1, 1)), along)


def likelihood_field(occupied: ArrayLike, cell_size: float, spread: float) -> NDArray[np.float32]:
    """Return how well a beam that ends in each cell agrees with the map: 1 on a wall, falling off as a Gaussian.

    Parameters
    ----------
    occupied : array_like of bool, (rows, columns)
    cell_size : float
        Metres.
    spread : float
        Standard deviation of the fall, m.

    Returns
    -------
    array, (rows, columns), float32
        Between 0 and 1.

    Notes
    -----
    The likelihood field of Thrun, Burgard and Fox (2005), "Probabilistic Robotics", section 6.4.
    """
    return likelihood_at(clearance(occupied, cell_size), spread)


def likelihood_at(distance: NDArray[np.float32], spread: float) -> NDArray[np.float32]:
    """Return what `likelihood_field` says at distances from the nearest occupied cell, m."""
    return np.exp(-0.5 * np.square(distance / np.float32(spread)))
