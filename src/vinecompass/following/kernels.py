"""Kernels of local planning: points and turns along a plan."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def point_at(points, way, at):  # type: ignore[no-untyped-def]
    """Point of a polyline (N, 2 or more) at a way along it, one of its ends beyond them; `way` (N,) that of each."""
    i = min(max(np.searchsorted(way, at, side="right") - 1, 0), way.shape[0] - 2)
    length = way[i + 1] - way[i]
    share = min(max((at - way[i]) / length, 0.0), 1.0) if length > 0.0 else 0.0
    x, y = points[i, 0], points[i, 1]
    return x + share * (points[i + 1, 0] - x), y + share * (points[i + 1, 1] - y)


@njit(cache=True, nogil=True)
def turned_over(points, way, base):  # type: ignore[no-untyped-def]
    """Radians (N,) that a polyline (N, 2 or more) turns by at each point, seen over so many metres of its way (N,).

    At its ends it does not turn.
    """
    turns = np.zeros(points.shape[0])
    for i in range(1, points.shape[0] - 1):
        x, y = points[i, 0], points[i, 1]
        before_x, before_y = point_at(points, way, way[i] - 0.5 * base)
        after_x, after_y = point_at(points, way, way[i] + 0.5 * base)
        into_x, into_y, out_x, out_y = x - before_x, y - before_y, after_x - x, after_y - y
        turns[i] = np.arctan2(into_x * out_y - into_y * out_x, into_x * out_x + into_y * out_y)
    return turns
