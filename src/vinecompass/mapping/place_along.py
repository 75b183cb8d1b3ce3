"""Where points lie along walls that are nearly plain: what the small things on them say, a door frame, a pilaster."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import KDTree

__all__ = ["place_along"]

FloatArray = NDArray[np.float64]
STEP = 0.05
"""Metres from one place that is tried to the next."""
FINE_STEP, FINE_STEPS = 0.01, 5
"""The same about the best of them, and how many to each side."""
SPREAD, FARTHEST = 0.02, 3.0
"""Metres by which points scatter about what they lie on, and times that at which they lie on nothing."""
POINTS_ALIKE = 4.0
"""How many points err together, since they see the same walls."""
APART, CLEARLY = 0.25, 6.0
"""Metres from the best place beyond which another is another, and logarithm of how much likelier the best must be."""


def place_along(walls: KDTree, points: FloatArray, line: FloatArray, reach: float) -> float | None:
    """Return how far along a line points must be moved to lie on walls, m; None if several places fit alike.

    Parameters
    ----------
    walls : scipy.spatial.KDTree
        Of points on them, m.
    points : array, (N, 2)
        In the same frame; beside the line they fit already. Only such as would have been seen wherever they are tried:
        others tell where a wall ends for the scanner, and not where it does.
    line : array, (2,)
        Its direction, of length 1.
    reach : float
        How far it may be either way, m.
    """
    steps = int(np.ceil(reach / STEP))
    ways = np.asarray(STEP * np.arange(-steps, steps + 1))
    likelihoods = _log_likelihoods(_distances(walls, points, line, ways))
    best = int(np.argmax(likelihoods))
    others = np.abs(ways - ways[best]) > APART
    at_end = best in (0, len(ways) - 1)
    if at_end or np.max(likelihoods[others], initial=-np.inf) > likelihoods[best] - CLEARLY:
        return None
    fine = ways[best] + FINE_STEP * np.arange(-FINE_STEPS, FINE_STEPS + 1)
    return float(fine[np.argmax(_log_likelihoods(_distances(walls, points, line, fine)))])


def _distances(walls: KDTree, points: FloatArray, line: FloatArray, ways: FloatArray) -> FloatArray:
    """Return how far points are from walls ``(N, points)``, moved along a line by each of some ways ``(N,)``."""
    return np.asarray(walls.query(points[None] + ways[:, None, None] * line)[0])


def _log_likelihoods(away: FloatArray) -> FloatArray:
    """Return how likely it is for points to be so far from walls, for each row ``(N,)``."""
    squares = np.minimum((away / SPREAD) ** 2, FARTHEST**2)
    return np.asarray(-0.5 * squares.sum(axis=1) / POINTS_ALIKE)
