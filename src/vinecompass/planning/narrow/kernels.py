"""Kernel of narrow places: floor thinned to the lines that hold rooms together."""

from __future__ import annotations

import numpy as np
from numba import njit

AROUND_ROWS = np.array([0, -1, -1, -1, 0, 1, 1, 1, 0])
AROUND_COLUMNS = np.array([1, 1, 0, -1, -1, -1, 0, 1, 1])
"""The eight neighbours in a ring, the first once more at the end; the straight ones are every other."""


@njit(cache=True, nogil=True)
def hangs_by_one(floor, row, column):  # type: ignore[no-untyped-def]
    """Whether a cell can be taken away without parting floor, joining what is no floor, or leaving nothing.

    Its connectivity number is 1 (Yokoi, Toriwaki and Fukumura, 1975): floor hangs together over corners, the rest not.
    """
    number = 0
    for k in range(0, 8, 2):
        if floor[row + AROUND_ROWS[k], column + AROUND_COLUMNS[k]] == 0:
            corner = floor[row + AROUND_ROWS[k + 1], column + AROUND_COLUMNS[k + 1]]
            side = floor[row + AROUND_ROWS[k + 2], column + AROUND_COLUMNS[k + 2]]
            number += corner != 0 or side != 0
    return number == 1


@njit(cache=True, nogil=True)
def thin(floor, rows, columns):  # type: ignore[no-untyped-def]
    """Take away, in the order given and again until nothing changes, the cells that floor does not hang by.

    Parameters
    ----------
    floor : (R, C), uint8, 0 is no floor; its border is none; worked on in place
    rows, columns : (N,), of the cells that may be taken, those nearest to closed ones first; worked on in place

    Returns how many of them are left, which stand first in `rows` and `columns`.
    """
    count, before = rows.size, -1
    while count != before:
        before, count = count, 0
        for i in range(before):
            row, column = rows[i], columns[i]
            if hangs_by_one(floor, row, column):
                floor[row, column] = 0
            else:
                rows[count], columns[count] = row, column
                count += 1
    return count
