"""Stamps as they came: which rows of a stream to keep so that time runs forward, and spans that stamps fill."""

from __future__ import annotations

from bisect import bisect_left

import numpy as np
from numpy.typing import ArrayLike, NDArray

__all__ = ["inside_spans", "rows_in_order", "spans_of"]


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
    for row in np.flatnonzero(np.isfinite(t)).tolist():
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
        row = int(before[row])
    return keep


def spans_of(stamps: ArrayLike, *, apart: float, shortest: float = 0.0) -> NDArray[np.float64]:
    """Return the spans ``(N, 2)`` that stamps ``(M,)`` fill: those at most `apart` seconds from each other are one.

    >>> spans_of([1.0, 1.1, 1.2, 5.0], apart=0.5, shortest=0.1).tolist()
    [[1.0, 1.2]]
    """
    t = np.asarray(stamps, dtype=float)
    if len(t) == 0:
        return np.zeros((0, 2))
    first, last = np.append(True, np.diff(t) > apart), np.append(np.diff(t) > apart, True)
    spans = np.column_stack([t[first], t[last]])
    return spans[spans[:, 1] - spans[:, 0] >= shortest]


def inside_spans(t: NDArray[np.float64], spans: ArrayLike, *, by: float = 0.0) -> NDArray[np.bool_]:
    """Return which times ``(N,)`` lie within any of some spans ``(M, 2)``, or within so many seconds of one.

    >>> inside_spans(np.array([0.5, 1.0, 2.1, 3.0]), [[1.0, 2.0]], by=0.2).tolist()
    [False, True, True, False]
    """
    inside = np.zeros(len(t), dtype=bool)
    for begin, end in np.reshape(spans, (-1, 2)):
        inside |= (t >= begin - by) & (t <= end + by)
    return inside
