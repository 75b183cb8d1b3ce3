"""What callers give is checked at the door, once."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.errors import InputError
from vinecompass.files.models import LONGEST, SHORTEST

__all__ = ["check_length", "checked_points", "checked_pose"]


def checked_pose(pose: ArrayLike, key: str) -> NDArray[np.float64]:
    """Return a pose ``(3,)`` as an array, or raise `InputError` that names the argument.

    >>> checked_pose([1, 2, 0.5], "start").tolist()
    [1.0, 2.0, 0.5]
    """
    checked = _numbers(pose)
    if checked.shape != (3,) or not np.all(np.isfinite(checked)):
        raise InputError("is not a pose", key=key, value=pose, expected="x, y, heading, all finite")
    return checked


def checked_points(points: ArrayLike, key: str, least: int = 1) -> NDArray[np.float64]:
    """Return points ``(N, 2)``, or raise `InputError` that names the argument, also if there are too few.

    >>> checked_points([[1, 2], [3, 4]], "route").tolist()
    [[1.0, 2.0], [3.0, 4.0]]
    """
    checked = _numbers(points)
    if checked.ndim != 2 or checked.shape[1] != 2 or len(checked) < least or not np.all(np.isfinite(checked)):
        raise InputError("are no points", key=key, expected=f"an array (N, 2) of {least} or more, all finite, m")
    return checked


def _numbers(values: ArrayLike) -> NDArray[np.float64]:
    """Return values as an array, an empty one if they are no numbers."""
    try:
        return np.asarray(values, dtype=float)
    except (TypeError, ValueError):
        return np.empty(0)


def check_length(length: float, key: str) -> None:
    """Raise `InputError` that names the argument unless it is a length in metres that makes sense.

    >>> check_length(0.05, "cell_size")
    """
    if not SHORTEST <= length <= LONGEST:
        raise InputError("is no size", key=key, value=length, expected=f"{SHORTEST:g} to {LONGEST:g} m")
