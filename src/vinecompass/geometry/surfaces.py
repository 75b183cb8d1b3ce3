"""Points on surfaces that a scanner sees, and which way these face."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.geometry.poses import transform_points

__all__ = ["oriented_points", "transform_oriented"]

FloatArray = NDArray[np.float64]
BESIDE, NEAR = 2, 0.3
"""How many beams on each side tell which way a surface faces, and how near what they hit must be, m."""


def oriented_points(points: ArrayLike, seen_from: ArrayLike) -> FloatArray:
    """Return points with the unit normals of the surfaces they lie on, towards where they were seen from.

    Parameters
    ----------
    points, seen_from : array_like, (N, 2)
        What the beams of a scan hit, in the beams' order, and where each began, m.

    Returns
    -------
    array, (N, 4)
        x, y and the normal's parts; 0, 0 where what the beams beside it hit lies farther off, as at a thin post.

    Examples
    --------
    >>> wall = [[2.0, 0.1 * i] for i in range(5)]
    >>> oriented_points(wall, np.zeros((5, 2)))[2].round(2).tolist()
    [2.0, 0.2, -1.0, 0.0]
    """
    xy, eyes = np.asarray(points, dtype=float), np.asarray(seen_from, dtype=float)
    result = np.zeros((len(xy), 4))
    result[:, :2] = xy
    if len(xy) <= BESIDE:
        return result
    numbers = np.arange(len(xy))
    before, after = xy[np.maximum(numbers - BESIDE, 0)], xy[np.minimum(numbers + BESIDE, len(xy) - 1)]
    along = after - before
    length = np.hypot(along[:, 0], along[:, 1])
    gaps = np.maximum(np.hypot(*(xy - before).T), np.hypot(*(xy - after).T))
    known = (gaps < NEAR) & (length > 0.0)
    normals = np.column_stack([-along[known, 1], along[known, 0]]) / length[known, None]
    towards = np.sum(normals * (eyes - xy)[known], axis=1) >= 0.0
    result[known, 2:] = np.where(towards[:, None], normals, -normals)
    return result


def transform_oriented(pose: ArrayLike, oriented: FloatArray) -> FloatArray:
    """Carry oriented points ``(N, 4)``, given in the frame of one `pose` ``(3,)``, to the frame the pose is given in.

    >>> transform_oriented([1.0, 0.0, np.pi / 2], np.array([[2.0, 0.0, 0.0, 1.0]])).round(2).tolist()
    [[1.0, 2.0, -1.0, 0.0]]
    """
    heading = np.asarray(pose, dtype=float)[2]
    turned = transform_points([0.0, 0.0, heading], oriented[:, 2:])
    return np.column_stack([transform_points(pose, oriented[:, :2]), turned])
