"""Kernels of the floor that was seen: marked along beams, and asked about under a moving body.

Cells (CELLS, CELLS, 3) hold a time each, and the row and column in the odometry's frame that it is of: the square goes
on with the robot, and a cell that is of another place was not seen.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.geometry.kernels import arc_step
from vinecompass.navigation.sensing.kernels import in_view

CELL = 0.1
"""Metres."""
CELLS = 128
"""In a row and a column, a power of two: as far as a robot may go before it looks again."""
BETWEEN = 0.8
"""Cells between two places of a beam at which it marks the floor."""


@njit(cache=True, nogil=True)
def mark(cells, t, x, y):  # type: ignore[no-untyped-def]
    """Note that the cell at a point, in cells, was seen."""
    row, column = int(np.floor(y)), int(np.floor(x))
    r, c = row & (CELLS - 1), column & (CELLS - 1)
    cells[r, c, 0], cells[r, c, 1], cells[r, c, 2] = t, row, column


@njit(cache=True, nogil=True)
def last_seen(cells, row, column):  # type: ignore[no-untyped-def]
    """When the cell of a row and column was last seen; -inf if never."""
    r, c = row & (CELLS - 1), column & (CELLS - 1)
    return cells[r, c, 0] if cells[r, c, 1] == row and cells[r, c, 2] == column else -np.inf


@njit(cache=True, nogil=True)
def mark_points(cells, t, points):  # type: ignore[no-untyped-def]
    """Note that the cells at points (N, 2) were seen."""
    for i in range(points.shape[0]):
        mark(cells, t, points[i, 0] / CELL, points[i, 1] / CELL)


@njit(cache=True, nogil=True)
def keep_points(cells, t, points):  # type: ignore[no-untyped-def]
    """Note anew those cells at points (N, 2) that were seen at some time: what was never seen stays so."""
    for i in range(points.shape[0]):
        x, y = points[i, 0] / CELL, points[i, 1] / CELL
        if last_seen(cells, int(np.floor(y)), int(np.floor(x))) > -np.inf:
            mark(cells, t, x, y)


@njit(cache=True, nogil=True)
def mark_beams(cells, t, origins, ends):  # type: ignore[no-untyped-def]
    """Note the cells that beams passed over from origins to ends (N, 2), as far as the square reaches."""
    for i in range(origins.shape[0]):
        x, y = origins[i, 0] / CELL, origins[i, 1] / CELL
        dx, dy = ends[i, 0] / CELL - x, ends[i, 1] / CELL - y
        length = max(np.sqrt(dx * dx + dy * dy), 1e-9)
        dx, dy = BETWEEN * dx / length, BETWEEN * dy / length
        for k in range(int(min(length, 0.45 * CELLS) / BETWEEN) + 1):
            mark(cells, t, x + k * dx, y + k * dy)


@njit(cache=True, nogil=True)
def seen_since(cells, oldest, x, y):  # type: ignore[no-untyped-def]
    """Whether one of the four cells about a point was seen after a time: beams leave gaps between them."""
    row, column = int(np.floor(y / CELL - 0.5)), int(np.floor(x / CELL - 0.5))
    for i in range(2):
        for j in range(2):
            if last_seen(cells, row + i, column + j) >= oldest:
                return True
    return False


@njit(cache=True, nogil=True)
def any_unseen(cells, oldest, pose, begin, rim, velocity, seconds, samples, mount, view):  # type: ignore[no-untyped-def]
    """Whether a point of a body's rim (M, 2) comes over floor that was not seen, on its way from pose `begin` (3,).

    `oldest`: since when floor must have been seen that is in view from the body's `pose`, and that is not. `mount`,
    `view`: as of `in_view`.
    """
    cosine, sine = np.cos(begin[2]), np.sin(begin[2])
    back_cosine, back_sine = np.cos(pose[2]), np.sin(pose[2])
    for i in range(1, samples + 1):
        ahead, left, turn = arc_step(velocity[0], velocity[1], velocity[2], seconds * i / samples)
        turn_cosine, turn_sine = np.cos(turn), np.sin(turn)
        for j in range(rim.shape[0]):
            u = ahead + turn_cosine * rim[j, 0] - turn_sine * rim[j, 1]
            v = left + turn_sine * rim[j, 0] + turn_cosine * rim[j, 1]
            x, y = begin[0] + cosine * u - sine * v, begin[1] + sine * u + cosine * v
            dx, dy = x - pose[0], y - pose[1]
            now_ahead, now_left = back_cosine * dx + back_sine * dy, back_cosine * dy - back_sine * dx
            since = oldest[0] if in_view(now_ahead, now_left, mount, view) else oldest[1]
            if not seen_since(cells, since, x, y):
                return True
    return False
