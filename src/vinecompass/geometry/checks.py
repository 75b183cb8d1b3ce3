"""What callers give is checked at the door, once."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.errors import InputError

__all__ = ["checked_pose"]


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
