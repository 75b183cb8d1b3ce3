"""What contact is tested between, as kernels take it: the body, and the cells of a floor."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from vinecompass.robot import Body

__all__ = ["OPEN_FLOOR", "BodyShape", "Cells", "cells_shape_of", "shape_of"]

FloatArray = NDArray[np.float64]


class BodyShape(NamedTuple):
    """A body about its origin, in metres, or in cells where it is tested against poses in cells.

    Parameters
    ----------
    outline : array, (C, 2)
        Its corners.
    outer_radius : float
        Whatever is farther from the origin is touched at no heading.
    discs : array, (D, 2)
        The middles of equal discs that cover it.
    disc_radius : float
    """

    outline: FloatArray
    outer_radius: float
    discs: FloatArray
    disc_radius: float


class Cells(NamedTuple):
    """A floor's cells, and which of them no part of a body may touch.

    **What lies off the grid is unknown floor**: it may not be touched where unknown floor may not. Every test of
    contact keeps to this rule, and so does the clearance.

    Parameters
    ----------
    forbidden : array of bool, (rows, columns)
    clearance : array, (rows, columns), float32
        From each cell's centre to the centre of the nearest one that is forbidden, off the grid as well, m.
    cell_size : float
        m.
    closed_beyond : bool
        Whether the floor off the grid is forbidden.
    """

    forbidden: NDArray[np.bool_]
    clearance: NDArray[np.float32]
    cell_size: float
    closed_beyond: bool


OPEN_FLOOR = Cells(np.zeros((2, 2), bool), np.full((2, 2), np.inf, np.float32), 1.0, False)
"""Floor without end of which nothing is known to be forbidden."""


def shape_of(body: Body) -> BodyShape:
    """Return a robot file's body in metres."""
    discs, radius = body.covering_discs
    return BodyShape(body.polygon, body.outer_radius, discs, radius)


def cells_shape_of(body: Body, cell_size: float) -> BodyShape:
    """Return a robot file's body in cells of a size, m."""
    discs, radius = body.covering_discs
    return BodyShape(body.polygon / cell_size, body.outer_radius / cell_size, discs / cell_size, radius / cell_size)
