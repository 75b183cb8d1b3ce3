"""Beams that tell one place from another: only they are evidence for either."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose
from vinecompass.grids import MapRays

__all__ = ["evidence_between"]

FloatArray = NDArray[np.float64]
BEAMS = 61
"""How many beams are looked at, at most."""
UNSURE = np.radians([-1.0, 0.0, 1.0])
"""Radians by which a beam may point elsewhere than is believed: along a wall that makes metres."""
DIFFERENT = 0.3
"""Metres that what two places expect of a beam must lie apart."""
SPREAD = 0.15
"""Standard deviation of a range about what a place expects, m."""
AT_RANDOM = 0.2
"""Likelihood, beside that of a range as expected, of one that the map does not explain."""


def evidence_between(
    rays: MapRays, here: FloatArray, there: FloatArray, origins: FloatArray, ends: FloatArray
) -> float:
    """Return the logarithm of how many times likelier a scan is from one pose ``(3,)`` than from another.

    Beams from `origins` to `ends` ``(N, 2)``, in the body frame, m, count for `there` or against it only where the two
    poses expect clearly different ranges. Where both expect the same, one may still seem to fit better, as rough as
    walls come out in a map; but that is so in every scan, and tells nothing.
    """
    few = slice(None, None, -(-len(ends) // BEAMS) or 1)
    away = ends[few] - origins[few]
    ranges = np.hypot(away[:, 0], away[:, 1])
    beams = np.column_stack([origins[few], np.arctan2(away[:, 1], away[:, 0])])
    farthest = float(ranges.max(initial=0.0)) + 1.0
    nearest, most = zip(*(_expected(rays, pose, beams, farthest) for pose in (here, there)), strict=True)
    telling = (nearest[0] > most[1] + DIFFERENT) | (nearest[1] > most[0] + DIFFERENT)
    likely = [
        _likelihood(ranges[telling], low[telling], high[telling]) for low, high in zip(nearest, most, strict=True)
    ]
    return float(np.sum(np.log(likely[1] / likely[0])))


def _expected(rays: MapRays, pose: FloatArray, beams: FloatArray, farthest: float) -> tuple[FloatArray, FloatArray]:
    """Return the shortest and the longest range ``(N,)`` of beams ``(N, 3)`` in the body frame, from a pose."""
    ranges = np.minimum(rays.ranges(compose(pose, beams), UNSURE, farthest=farthest), farthest).astype(float)
    return ranges.min(axis=1), ranges.max(axis=1)


def _likelihood(ranges: FloatArray, low: FloatArray, high: FloatArray) -> FloatArray:
    """Return how likely ranges ``(N,)`` are where something between `low` and `high` is expected, as a share."""
    off = np.maximum(np.maximum(low - ranges, ranges - high), 0.0) / SPREAD
    return AT_RANDOM + (1.0 - AT_RANDOM) * np.exp(-0.5 * off * off)
