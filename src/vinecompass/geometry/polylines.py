"""Polylines: distance along them, and even spacing."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

__all__ = ["distance_along", "polyline_headings", "resample_polyline"]


def distance_along(points: ArrayLike) -> NDArray[np.float64]:
    """Return the distance travelled from the first point to each point ``(N, 2 or more)``: ``(N,)``, metres."""
    xy = np.asarray(points, dtype=float)[:, :2]
    return np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(xy, axis=0).T))])


def polyline_headings(points: ArrayLike) -> NDArray[np.float64]:
    """Return where a polyline ``(N, 2 or more)`` leads at each point ``(N,)``, radians; at the last as just before.

    >>> polyline_headings([[0.0, 0.0], [1.0, 0.0], [1.0, 1.0]]).round(3).tolist()
    [0.0, 1.571, 1.571]
    """
    steps = np.diff(np.asarray(points, dtype=float)[:, :2], axis=0)
    headings = np.arctan2(steps[:, 1], steps[:, 0])
    return np.append(headings, headings[-1])


def resample_polyline(points: ArrayLike, spacing: float) -> NDArray[np.float64]:
    """Space points ``(N, 2)`` evenly along their polyline, at most `spacing` metres apart, both ends kept.

    >>> resample_polyline([[0.0, 0.0], [1.0, 0.0]], 0.5).tolist()
    [[0.0, 0.0], [0.5, 0.0], [1.0, 0.0]]
    """
    xy = np.asarray(points, dtype=float)[:, :2]
    along = distance_along(xy)
    count = max(int(np.ceil(along[-1] / spacing - 1e-9)), 1) + 1
    even = np.linspace(0.0, along[-1], count)
    return np.stack([np.interp(even, along, xy[:, 0]), np.interp(even, along, xy[:, 1])], axis=-1)
