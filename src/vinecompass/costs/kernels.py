"""Kernel of the body check: does a polygon at a pose touch a forbidden cell?"""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def first_touch(forbidden, clearance, outline, inner_radius, outer_radius, poses):  # type: ignore[no-untyped-def]
    """For each pose (N, 3) the flat index of a forbidden cell that the body touches there, or -1.

    Everything is in cells, in the grid's frame; `clearance` (rows, columns) is from cell centre to centre. Off the
    grid counts as nothing. A cell is its whole square: it is touched if a side of the outline enters it or its
    middle lies inside.
    """
    rows, columns = forbidden.shape
    corners = outline.shape[0]
    result = np.full(poses.shape[0], -1, np.int64)
    shape = np.empty((corners, 2))
    for i in range(poses.shape[0]):
        x, y = poses[i, 0], poses[i, 1]
        row, column = int(np.floor(y)), int(np.floor(x))
        # Cheap bounds first: no farther than half a diagonal from this cell's middle and from the other's.
        if 0 <= row < rows and 0 <= column < columns and clearance[row, column] > outer_radius + 1.4143:
            continue
        cosine, sine = np.cos(poses[i, 2]), np.sin(poses[i, 2])
        for c in range(corners):
            shape[c, 0] = x + cosine * outline[c, 0] - sine * outline[c, 1]
            shape[c, 1] = y + sine * outline[c, 0] + cosine * outline[c, 1]
        first_row, last_row = max(int(np.floor(shape[:, 1].min())), 0), min(int(np.floor(shape[:, 1].max())), rows - 1)
        first_column = max(int(np.floor(shape[:, 0].min())), 0)
        last_column = min(int(np.floor(shape[:, 0].max())), columns - 1)
        for r in range(first_row, last_row + 1):
            for c in range(first_column, last_column + 1):
                if forbidden[r, c] and result[i] < 0 and meets_cell(shape, c, r):
                    result[i] = r * columns + c
    return result


@njit(cache=True, nogil=True)
def meets_cell(shape, column, row):  # type: ignore[no-untyped-def]
    """Whether a polygon (N, 2) meets the unit square at (column, row)."""
    inside = False
    middle_x, middle_y = column + 0.5, row + 0.5
    previous = shape.shape[0] - 1
    for corner in range(shape.shape[0]):
        ax, ay, bx, by = shape[previous, 0], shape[previous, 1], shape[corner, 0], shape[corner, 1]
        if (ay > middle_y) != (by > middle_y) and middle_x < ax + (middle_y - ay) / (by - ay) * (bx - ax):
            inside = not inside
        # Clip the side to the square (Liang and Barsky, 1984).
        enter, leave = 0.0, 1.0
        for axis in range(2):
            start, change = (ax - column, bx - ax) if axis == 0 else (ay - row, by - ay)
            if change == 0.0:
                if not 0.0 <= start <= 1.0:
                    enter = 2.0
            else:
                one, other = -start / change, (1.0 - start) / change
                enter, leave = max(enter, min(one, other)), min(leave, max(one, other))
        if enter <= leave:
            return True
        previous = corner
    return inside
