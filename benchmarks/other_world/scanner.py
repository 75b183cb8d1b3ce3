"""A scanner of the second world: Shapely cuts its beams off where they meet something."""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.geometry.base import BaseGeometry

__all__ = ["look"]


def look(
    floor: BaseGeometry, poses: NDArray[np.float64], angles: NDArray[np.float64], farthest: float
) -> NDArray[np.float64]:
    """Return how far each beam comes ``(N,)``, m, from its sensor's pose ``(N, 3)``; `inf` where farther than it can.

    `angles` ``(N,)`` are in the sensor's frame, radians.
    """
    headings = poses[:, 2] + angles
    ends = poses[:, :2] + farthest * np.column_stack([np.cos(headings), np.sin(headings)])
    beams = shapely.linestrings(np.stack([poses[:, :2], ends], axis=1))
    around = shapely.intersection(floor.boundary, shapely.box(*_bounds(ends, poses)))
    cut = shapely.intersection(beams, around)
    ranges = shapely.distance(shapely.points(poses[:, :2]), cut)
    return np.where(shapely.is_empty(cut), np.inf, ranges)


def _bounds(ends: NDArray[np.float64], poses: NDArray[np.float64]) -> tuple[float, float, float, float]:
    """Return the box about all beams."""
    both = np.vstack([ends, poses[:, :2]])
    return float(both[:, 0].min()), float(both[:, 1].min()), float(both[:, 0].max()), float(both[:, 1].max())
