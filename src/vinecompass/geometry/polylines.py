"""Polylines: distance along them, even spacing, and round corners."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.geometry.poses import arc, compose, wrap_angle

__all__ = ["distance_along", "polyline_headings", "resample_polyline", "rounded_polyline"]


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


def rounded_polyline(points: ArrayLike, radius: float, spacing: float) -> NDArray[np.float64]:
    """Round the corners of a polyline ``(N, 2)`` by arcs of a radius, or of less where a leg is too short for that.

    An arc takes half of either leg at most; its points lie no more than `spacing` metres apart.

    >>> rounded_polyline([[0.0, 0.0], [2.0, 0.0], [2.0, 2.0]], 0.5, 1.0).round(2).tolist()
    [[0.0, 0.0], [1.5, 0.0], [2.0, 0.5], [2.0, 2.0]]
    """
    xy = np.asarray(points, dtype=float)[:, :2]
    xy = xy[np.append(True, np.any(np.diff(xy, axis=0) != 0.0, axis=1))]
    legs, headings = np.hypot(*np.diff(xy, axis=0).T), polyline_headings(xy)[:-1]
    parts = [xy[:1]]
    for corner, (turn, before, after) in enumerate(zip(wrap_angle(np.diff(headings)), legs, legs[1:], strict=False), 1):
        tangent = max(abs(float(np.tan(0.5 * turn))), 1e-9)
        cut = min(radius * tangent, 0.5 * before, 0.5 * after)
        length = cut / tangent * abs(turn)
        heading = headings[corner - 1]
        begin = xy[corner] - cut * np.array([np.cos(heading), np.sin(heading)])
        shares = np.linspace(0.0, 1.0, int(np.ceil(length / spacing)) + 1)
        parts.append(compose([*begin, heading], arc([length, 0.0, turn], shares))[:, :2])
    return np.vstack([*parts, xy[-1:]])
