"""Floor that a map knows already, and which scans from there add nothing to it."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import KDTree

from vinecompass.geometry import wrap_angle

__all__ = ["adds_nothing", "lies_on_known_floor"]

FloatArray = NDArray[np.float64]
BESIDE, PASSES, KNOWN_SHARE = 1.0, 1.5, 0.9
"""Metres about a place in which former scans count, drives past it that make it known, and share of a drive's places
that must be: of a place passed once before, a second pass still tells much."""
NEARBY, TURNED = 0.5, np.radians(20.0)
"""Metres and radians within which two scans see much the same."""
SEEN_BY = 6
"""So many scans from nearby tell what is to be seen there: two drives past it."""


def lies_on_known_floor(poses: FloatArray, former: FloatArray, apart: float) -> bool:
    """Tell whether a short drive's poses ``(N, 3)`` lie where the robot passed more than once before.

    Former scans, at poses ``(M, 3)``, were taken every so many metres `apart`.

    >>> lies_on_known_floor(np.array([[0.5, 0.0, 0.0]]), np.zeros((12, 3)), 0.25)
    True
    """
    near = KDTree(former[:, :2]).query_ball_point(poses[:, :2], BESIDE, return_length=True)
    return bool(np.mean(near >= PASSES * 2.0 * BESIDE / apart) >= KNOWN_SHARE)


def adds_nothing(poses: FloatArray, kept: FloatArray) -> NDArray[np.bool_]:
    """Return of which poses ``(N, 3)`` a scan adds nothing to scans that are kept, at poses ``(M, 3)``.

    >>> adds_nothing(np.array([[0.1, 0.0, 0.0], [5.0, 0.0, 0.0]]), np.zeros((6, 3))).tolist()
    [True, False]
    """
    near = KDTree(kept[:, :2]).query_ball_point(poses[:, :2], NEARBY)
    turns = [np.abs(wrap_angle(kept[others, 2] - pose[2])) for others, pose in zip(near, poses, strict=True)]
    return np.array([np.count_nonzero(turn < TURNED) >= SEEN_BY for turn in turns], dtype=bool)
