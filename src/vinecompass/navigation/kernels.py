"""Kernel of the safety check: does a moving body run into scan points?"""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def first_blocked(outline, points, poses):  # type: ignore[no-untyped-def]
    """Index of the first pose (N, 3) whose outline (C, 2) holds a point (M, 2) that the first pose's does not; or N."""
    corners, widest = outline.shape[0], 0.0
    for corner in range(corners):
        widest = max(widest, outline[corner, 0] ** 2 + outline[corner, 1] ** 2)
    ignored = np.zeros(points.shape[0], np.bool_)
    for i in range(poses.shape[0]):
        cosine, sine = np.cos(poses[i, 2]), np.sin(poses[i, 2])
        for j in range(points.shape[0]):
            dx, dy = points[j, 0] - poses[i, 0], points[j, 1] - poses[i, 1]
            if dx * dx + dy * dy > widest:
                continue
            x, y = cosine * dx + sine * dy, cosine * dy - sine * dx
            inside = False
            previous = corners - 1
            for corner in range(corners):
                ax, ay, bx, by = outline[previous, 0], outline[previous, 1], outline[corner, 0], outline[corner, 1]
                if (ay > y) != (by > y) and x < ax + (y - ay) / (by - ay) * (bx - ax):
                    inside = not inside
                previous = corner
            if inside and i == 0:
                ignored[j] = True
            elif inside and not ignored[j]:
                return i
    return poses.shape[0]
