"""The wide search for where points fit what was mapped: coarse, before a pose is aligned."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.matching import PoseSearch

__all__ = ["NEARER_THAN", "SEARCH_CELL", "SEARCH_TURN", "wide_search"]

NEARER_THAN = 8.0
"""Metres from the body within which points are compared with others."""
SEARCH_CELL, SEARCH_SPREAD, SEARCH_TURN = 0.1, 0.12, np.radians(1.0)
"""Metres, metres and radians of the wide search; what it finds is then aligned."""


def wide_search(points: NDArray[np.float64]) -> PoseSearch:
    """Return points on walls ``(N, 2)``, m, made ready to be searched."""
    return PoseSearch.of_points(points, cell_size=SEARCH_CELL, spread=SEARCH_SPREAD)
