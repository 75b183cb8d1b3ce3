"""Readings at any angles, put on the beams of a lidar."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

__all__ = ["on_beams"]

FloatArray = NDArray[np.float64]
NEIGHBOURS = 1.5
"""Beams that two readings may be apart for what lies between them to be known."""
ONE_SURFACE = 0.05
"""Share of their range by which two neighbours on one surface differ at most: a wall met at 20 degrees, 1 apart."""


def on_beams(ranges: FloatArray, numbers: FloatArray, beams: int) -> FloatArray:
    """Return the readings of one scan as ranges ``(beams,)``, `nan` where no reading lies within half a beam.

    Between two neighbours on one surface ranges are linear; elsewhere a beam has the reading nearest to it.

    Parameters
    ----------
    ranges : array (N,)
        In any unit; what is not finite is taken as it is.
    numbers : array (N,)
        Where each lies among the beams: 2.5 is midway between two of them.
    beams : int

    Examples
    --------
    >>> on_beams(np.array([2.0, 2.02, 5.0]), np.array([0.25, 1.25, 2.25]), 4).tolist()
    [2.0, 2.015, 5.0, nan]
    """
    order = np.argsort(numbers, kind="stable")
    places = np.concatenate([[-np.inf], numbers[order], [np.inf]])
    padded = np.concatenate([[np.nan], ranges[order], [np.nan]])
    wanted = np.arange(beams)
    after = np.searchsorted(places, wanted)
    # What is not finite is on no surface.
    with np.errstate(invalid="ignore"):
        back, ahead = wanted - places[after - 1], places[after] - wanted
        low, high = padded[after - 1], padded[after]
        nearest = np.where(back < ahead, low, high)
        near = np.abs(high - low) <= ONE_SURFACE * np.minimum(np.abs(low), np.abs(high))
        alike = near & (back + ahead <= NEIGHBOURS)
        between = low + back / (back + ahead) * (high - low)
    return np.where(alike, between, np.where(np.minimum(back, ahead) <= 0.5, nearest, np.nan))
