"""Kernels of what was seen before: which points are kept that are out of sight now."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def in_view(ahead, left, mount, view):  # type: ignore[no-untyped-def]
    """Whether a scanner at `mount` on the body has a point of the body frame in view.

    `view`: the middle of what it sees and half of that, radians, in the scanner's frame.
    """
    away = np.arctan2(left - mount[1], ahead - mount[0]) - mount[2] - view[0]
    return abs(np.arctan2(np.sin(away), np.cos(away))) <= view[1]


@njit(cache=True, nogil=True)
def keep_hidden(kept, seen, t, pose, mount, view, limits):  # type: ignore[no-untyped-def]
    """Keep what was seen before (N, 3), x, y and stamp, and is out of sight, and what is `seen` now (M, 2).

    What is kept lies in the frame that `pose` is given in, what is seen in the body's. `mount`, `view`: as of
    `in_view`. `limits`: the age up to which points are kept, how far from the body's origin, and the side of the
    squares of which each keeps one.
    Returns what is kept now (K, 3), and those of it that are out of sight (L, 2) in the body frame.
    """
    memory, reach, side = limits
    squares = 2 * int(np.ceil(reach / side)) + 3
    first_row = np.floor(pose[1] / side) - squares // 2
    first_column = np.floor(pose[0] / side) - squares // 2
    taken = np.zeros((squares, squares), np.bool_)
    result, hidden = np.empty((kept.shape[0] + seen.shape[0], 3)), np.empty((kept.shape[0], 2))
    cosine, sine = np.cos(pose[2]), np.sin(pose[2])
    count = hidden_count = 0
    for i in range(result.shape[0]):
        old = i < kept.shape[0]
        if old:
            x, y, stamp = kept[i, 0], kept[i, 1], kept[i, 2]
            dx, dy = x - pose[0], y - pose[1]
            ahead, left = cosine * dx + sine * dy, cosine * dy - sine * dx
            if t - stamp >= memory or in_view(ahead, left, mount, view):
                continue
        else:
            ahead, left = seen[i - kept.shape[0], 0], seen[i - kept.shape[0], 1]
            x = pose[0] + cosine * ahead - sine * left
            y = pose[1] + sine * ahead + cosine * left
            stamp = t
        if ahead * ahead + left * left >= reach * reach:
            continue
        row, column = int(np.floor(y / side) - first_row), int(np.floor(x / side) - first_column)
        if taken[row, column]:
            continue
        taken[row, column] = True
        result[count, 0], result[count, 1], result[count, 2] = x, y, stamp
        count += 1
        if old:
            hidden[hidden_count, 0], hidden[hidden_count, 1] = ahead, left
            hidden_count += 1
    return result[:count].copy(), hidden[:hidden_count].copy()
