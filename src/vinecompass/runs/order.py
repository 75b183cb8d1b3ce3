"""Stamps as they came: which rows of a stream to keep so that time runs forward."""

from __future__ import annotations

from bisect import bisect_left

import numpy as np
from numpy.typing import NDArray

__all__ = ["rows_in_order"]


def rows_in_order(t: NDArray[np.float64]) -> NDArray[np.bool_]:
    """Return which rows ``(N,)`` to keep: as many as can be so that the stamps are finite and increase.

    It is the longest increasing subsequence (Knuth, 1973, section 5.1.4), so that a single stamp that leaps ahead
    costs one row and not all the rows after it.

    >>> rows_in_order(np.array([0.0, 1.0, 900.0, 2.0, 2.0, np.nan, 3.0])).tolist()
    [True, True, False, False, True, False, True]
    """
    if np.all(np.isfinite(t)) and np.all(np.diff(t) > 0.0):
        return np.ones(len(t), dtype=bool)
    ends: list[float] = []
    rows: list[int] = []
    before = np.full(len(t), -1)
    for row in np.flatnonzero(np.isfinite(t)):
        place = bisect_left(ends, t[row])
        if place == len(ends):
            ends.append(t[row])
            rows.append(row)
        else:
            ends[place], rows[place] = t[row], row
        before[row] = rows[place - 1] if place else -1
    keep = np.zeros(len(t), dtype=bool)
    row = rows[-1] if rows else -1
    while row >= 0:
        keep[row] = True
        row = before[row]
    return keep
