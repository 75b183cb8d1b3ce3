"""What callers give is checked at the door, once."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.errors import InputError

__all__ = ["check_length", "checked_points", "checked_pose"]

SHORTEST, LONGEST = 1e-4, 1000.0
"""Metres that a cell, a radius or a gap may measure, as in files."""


def checked_pose(pose: ArrayLike, key: str) -> NDArray[np.float64]:
    """Return a pose ``(3,)`` as an array, or raise `InputError` that names the argument.

    >>> checked_pose([1, 2, 0.5], "start").tolist()
    [1.0, 2.0, 0.5]
    """
    try:
        checked = np.asarray(pose, dtype=float)
    except (TypeError, ValueError):
        checked = np.empty(0)
    if checked.shape != (3,) or not np.all(np.isfinite(checked)):
        raise InputError("is not a pose", key=key, value=pose, expected="x, y, heading, all finite")
    return checked


def checked_points(points: ArrayLike, key: str, least: int = 1) -> NDArray[np.float64]:
    """Return points ``(N, 2)``, or raise `InputError` that names the argument, also if there are too few.

    >>> checked_points([[1, 2], [3, 4]], "route").tolist()
    [[1.0, 2.0], [3.0, 4.0]]
    """
    try:
        checked = np.asarray(points, dtype=float)
    except (TypeError, ValueError):
        checked = np.empty(0)
    if checked.ndim != 2 or checked.shape[1] != 2 or len(checked) < least or not np.all(np.isfinite(checked)):
        raise InputError("are no points", key=key, expected=f"an array (N, 2) of {least} or more, all finite, m")
    return checked


def check_length(length: float, key: str) -> None:
    """Raise `InputError` that names the argument unless it is a length in metres that makes sense.

    >>> check_length(0.05, "cell_size")
    """
    if not SHORTEST <= length <= LONGEST:
        raise InputError("is no size", key=key, value=length, expected=f"{SHORTEST:g} to {LONGEST:g} m")
