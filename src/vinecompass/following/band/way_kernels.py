"""Kernels of the time-optimal band as a way: poses between its own, changes of direction, and sides passed."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def reversals(poses, least):  # type: ignore[no-untyped-def]
    """How often a way of poses (N, 3) changes between forward and reverse; steps of less than `least` do not count."""
    count, before = 0, 0
    for i in range(poses.shape[0] - 1):
        heading = 0.5 * (poses[i, 2] + poses[i + 1, 2])
        x, y = poses[i + 1, 0] - poses[i, 0], poses[i + 1, 1] - poses[i, 1]
        ahead = np.cos(heading) * x + np.sin(heading) * y
        if abs(ahead) > least:
            now = 1 if ahead > 0.0 else -1
            count += 1 if before == -now else 0
            before = now
    return count


@njit(cache=True, nogil=True)
def between(times, stamps, rows, result):  # type: ignore[no-untyped-def]
    """Rows (M, C) at `times` (M,), in a straight line between `rows` (N, C) at `stamps` (N,); held beyond both ends."""
    before = 0
    for i in range(times.shape[0]):
        while before < stamps.shape[0] - 2 and stamps[before + 1] <= times[i]:
            before += 1
        length = stamps[before + 1] - stamps[before]
        share = min(max((times[i] - stamps[before]) / length, 0.0), 1.0) if length > 0.0 else 1.0
        for j in range(rows.shape[1]):
            result[i, j] = rows[before, j] + share * (rows[before + 1, j] - rows[before, j])


@njit(cache=True, nogil=True)
def nearest_of(path, x, y):  # type: ignore[no-untyped-def]
    """Index of the point of a path (N, 2 or more) that is nearest to x, y."""
    best, nearest = np.inf, 0
    for i in range(path.shape[0]):
        dx, dy = x - path[i, 0], y - path[i, 1]
        if dx * dx + dy * dy < best:
            best, nearest = dx * dx + dy * dy, i
    return nearest


@njit(cache=True, nogil=True)
def passed_on(path, islands, near):  # type: ignore[no-untyped-def]
    """On which side of a path (N, 2 or more) each island (I, 3: x, y, reach) lies: 1 left, -1 right, 0 beside none."""
    last, sides = path.shape[0] - 1, np.zeros(islands.shape[0], np.int64)
    for i in range(islands.shape[0]):
        k = nearest_of(path, islands[i, 0], islands[i, 1])
        x, y = islands[i, 0] - path[k, 0], islands[i, 1] - path[k, 1]
        if 0 < k < last and np.hypot(x, y) <= near + islands[i, 2]:
            ahead_x, ahead_y = path[k + 1, 0] - path[k - 1, 0], path[k + 1, 1] - path[k - 1, 1]
            sides[i] = 1 if ahead_x * y - ahead_y * x >= 0.0 else -1
    return sides
