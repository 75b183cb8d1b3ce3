"""Kernels that the shortest curves share: angles as arcs, and the pieces of a curve."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.geometry.kernels import TURN

EXACT = 1e-10
"""Lengths this little below zero are zero, and a full turn less this much is none: what rounding makes of them."""


@njit(cache=True, nogil=True)
def full(angle):  # type: ignore[no-untyped-def]
    """An angle as an arc of 0 or more, less than a full turn."""
    result = angle - TURN * np.floor(angle / TURN)
    return 0.0 if result > TURN - EXACT else result


@njit(cache=True, nogil=True)
def half(angle):  # type: ignore[no-untyped-def]
    """An angle between minus and plus half a turn."""
    return angle - TURN * np.floor((angle + np.pi) / TURN)


@njit(cache=True, nogil=True)
def keep(curve, c0, l0, c1, l1, c2, l2, c3, l3, c4, l4):  # type: ignore[no-untyped-def]
    """Write the pieces of a curve (5, 2): curvature and length of each."""
    curve[0, 0] = c0
    curve[0, 1] = l0
    curve[1, 0] = c1
    curve[1, 1] = l1
    curve[2, 0] = c2
    curve[2, 1] = l2
    curve[3, 0], curve[3, 1], curve[4, 0], curve[4, 1] = c3, l3, c4, l4


@njit(cache=True, nogil=True)
def run_backwards(curve):  # type: ignore[no-untyped-def]
    """Put the pieces of a curve (5, 2) in reverse order, those that are not there still last."""
    count = 5
    while curve[count - 1, 1] == 0.0 and count > 1:
        count -= 1
    for i in range(count // 2):
        other = count - 1 - i
        curve[i, 0], curve[other, 0] = curve[other, 0], curve[i, 0]
        curve[i, 1], curve[other, 1] = curve[other, 1], curve[i, 1]
