"""Kernels for what the map closes and beams pass: how many scans in a row passed a cell, and which end there."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.costs.kernels import SURE_PART

BEYOND = 6.0
"""Cells before its end from which on a beam says nothing of a wall that it seems to pass."""
HIT_WITHIN = 2
"""Cells about a beam's end in which something stands."""


@njit(cache=True, nogil=True)
def count_passes(passes, counted, scan, occupied, origins, ends, hit, enough):  # type: ignore[no-untyped-def]
    """Count the scans of which a beam (N, 2), in cells, passes each occupied cell, anew wherever one ends: there -1.

    `counted` (rows, columns) holds the number of the scan that was last counted in a cell: each counts once. Beams that
    did not hit anything tell nothing.
    Returns row and column (M, 2) of the cells that `enough` scans have passed now.
    """
    rows, columns = occupied.shape
    reached = [(0, 0) for _ in range(0)]
    for beam in range(ends.shape[0]):
        x, y = origins[beam, 0], origins[beam, 1]
        dx, dy = ends[beam, 0] - x, ends[beam, 1] - y
        length = np.hypot(dx, dy)
        if not hit[beam] or not length > 0.0:
            continue
        dx, dy = 0.5 * dx / length, 0.5 * dy / length
        for i in range(int(2.0 * (length - BEYOND))):
            at_x, at_y = x + i * dx, y + i * dy
            column, row = int(np.floor(at_x)), int(np.floor(at_y))
            if not (0 <= row < rows and 0 <= column < columns) or not occupied[row, column]:
                continue
            middle = abs(at_x - column - 0.5) < SURE_PART and abs(at_y - row - 0.5) < SURE_PART
            if middle and counted[row, column] != scan:
                counted[row, column] = scan
                passes[row, column] = max(passes[row, column], 0) + 1
                if passes[row, column] == enough:
                    reached.append((row, column))
    for beam in range(ends.shape[0]):
        if hit[beam]:
            row, column = int(np.floor(ends[beam, 1])), int(np.floor(ends[beam, 0]))
            first_row, first_column = max(row - HIT_WITHIN, 0), max(column - HIT_WITHIN, 0)
            last_row, last_column = max(row + HIT_WITHIN + 1, 0), max(column + HIT_WITHIN + 1, 0)
            passes[first_row:last_row, first_column:last_column] = -1
    still = [cell for cell in reached if passes[cell] == enough]
    result = np.empty((len(still), 2), np.int64)
    for i, (row, column) in enumerate(still):
        result[i, 0], result[i, 1] = row, column
    return result
