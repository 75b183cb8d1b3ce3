"""The body's outline as kernels want it: discs that cover it, and points on its rim."""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray

__all__ = ["covering_discs", "rim_points"]

FloatArray = NDArray[np.float64]


def covering_discs(outline: FloatArray) -> tuple[FloatArray, float]:
    """Return the middles ``(D, 2)`` and the radius of equal discs along the body's x axis that cover an outline."""
    low, high = outline.min(axis=0), outline.max(axis=0)
    length, width = high - low
    count = max(int(np.ceil(1.5 * length / width)), 1)
    part = length / count
    x = low[0] + part * (np.arange(count) + 0.5)
    y = 0.5 * (low[1] + high[1])
    return np.column_stack([x, np.full(count, y)]), float(np.hypot(0.5 * part, 0.5 * width))


def rim_points(outline: FloatArray, spacing: float) -> FloatArray:
    """Return points ``(R, 2)`` along an outline, at most `spacing` metres apart."""
    ring = shapely.segmentize(shapely.LinearRing(outline), spacing)
    return np.array(ring.coords)[:-1].copy()
