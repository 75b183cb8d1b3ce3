"""Open edges: where the floor goes on, but the map does not."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vinecompass.grids.grid import Grid

__all__ = ["open_edges"]


def open_edges(grid: Grid) -> NDArray[np.bool_]:
    """Return the free cells ``(rows, columns)`` beside never observed ones."""
    return np.asarray(grid.free & ndimage.binary_dilation(grid.log_odds == 0.0))
