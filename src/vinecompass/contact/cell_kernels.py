"""Kernels of contact: a body against the cells of a floor. What lies off the grid is unknown floor, as `Cells` says."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.contact.kernels import crosses

DIAGONAL = 1.4143
"""Sides of a cell: a little more than its diagonal. A point and what it is near to lie half of one off."""
STRIDE = 8
"""Poses of a way from one that is looked at to the next, at first."""
FAR = 1e3
"""Metres that stand for a gap without end."""


@njit(cache=True, nogil=True)
def gap_bound(clearance, side, closed_beyond, x, y):  # type: ignore[no-untyped-def]
    """Lower bound of the distance from a point, m in the grid's frame, to forbidden floor, m. See `Cells`."""
    row, column = int(y / side), int(x / side)
    if x < 0.0 or y < 0.0 or row >= clearance.shape[0] or column >= clearance.shape[1]:
        return 0.0 if closed_beyond else FAR
    return clearance[row, column] - DIAGONAL * side


@njit(cache=True, nogil=True)
def gap_between(clearance, side, closed_beyond, x, y):  # type: ignore[no-untyped-def]
    """Distance to forbidden floor at a point in metres, from centre to centre, between cells, with its slopes by x, y.

    Without end where the grid tells of none.
    """
    rows, columns = clearance.shape
    u, v = x / side - 0.5, y / side - 0.5
    column, row = int(np.floor(u)), int(np.floor(v))
    if not (0 <= row < rows - 1 and 0 <= column < columns - 1):
        if not closed_beyond:
            return FAR, 0.0, 0.0
        # To the middle of the nearest cell beyond the edge, less than none where the point lies beyond it itself.
        left, right = x + 0.5 * side, (columns + 0.5) * side - x
        down, up = y + 0.5 * side, (rows + 0.5) * side - y
        if min(left, right) < min(down, up):
            return (left, 1.0, 0.0) if left < right else (right, -1.0, 0.0)
        return (down, 0.0, 1.0) if down < up else (up, 0.0, -1.0)
    u, v = u - column, v - row
    a, b = clearance[row, column], clearance[row, column + 1]
    c, d = clearance[row + 1, column], clearance[row + 1, column + 1]
    if a > FAR or b > FAR or c > FAR or d > FAR:
        return FAR, 0.0, 0.0
    value = (1.0 - v) * ((1.0 - u) * a + u * b) + v * ((1.0 - u) * c + u * d)
    return value, ((1.0 - v) * (b - a) + v * (d - c)) / side, ((1.0 - u) * (c - a) + u * (d - b)) / side


@njit(cache=True, nogil=True)
def meets_cell(shape, column, row):  # type: ignore[no-untyped-def]
    """Whether a polygon (C, 2) meets the unit square at (column, row): a side enters it, or its middle lies inside."""
    inside = False
    previous = shape.shape[0] - 1
    for corner in range(shape.shape[0]):
        ax, ay, bx, by = shape[previous, 0], shape[previous, 1], shape[corner, 0], shape[corner, 1]
        if crosses(ax, ay, bx, by, column + 0.5, row + 0.5):
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


@njit(cache=True, nogil=True)
def touched_cell(cells, body, shape, x, y, cosine, sine):  # type: ignore[no-untyped-def]
    """The flat index of a forbidden cell that a `BodyShape` touches at a pose, or -1. Everything in cells.

    A cell is its whole square. Where the body hangs over the edge of a grid that is closed beyond, the nearest cell of
    the edge stands for what lies there. `shape` (C, 2) is room for the outline at the pose.
    """
    # Taken out once: taking an array out of a named tuple counts a reference up and down, which takes its time.
    forbidden, outline = cells.forbidden, body.outline
    rows, columns = forbidden.shape
    low_x, high_x, low_y, high_y = np.inf, -np.inf, np.inf, -np.inf
    for c in range(outline.shape[0]):
        shape[c, 0] = x + cosine * outline[c, 0] - sine * outline[c, 1]
        shape[c, 1] = y + sine * outline[c, 0] + cosine * outline[c, 1]
        low_x, high_x = min(low_x, shape[c, 0]), max(high_x, shape[c, 0])
        low_y, high_y = min(low_y, shape[c, 1]), max(high_y, shape[c, 1])
    first_row, last_row = int(np.floor(low_y)), int(np.floor(high_y))
    first_column, last_column = int(np.floor(low_x)), int(np.floor(high_x))
    low_row, high_row = max(first_row, 0), min(last_row, rows - 1)
    low_column, high_column = max(first_column, 0), min(last_column, columns - 1)
    for r in range(low_row, high_row + 1):
        for c in range(low_column, high_column + 1):
            if forbidden[r, c] and meets_cell(shape, c, r):
                return r * columns + c
    over = first_row < 0 or last_row >= rows or first_column < 0 or last_column >= columns
    if cells.closed_beyond and over:
        row = min(max(last_row if first_row >= 0 else first_row, 0), rows - 1)
        column = min(max(last_column if first_column >= 0 else first_column, 0), columns - 1)
        return row * columns + column
    return -1


@njit(cache=True, nogil=True)
def discs_are_clear(cells, body, x, y, cosine, sine):  # type: ignore[no-untyped-def]
    """Whether the discs that cover a `BodyShape` at a pose are surely clear of forbidden cells. Everything in cells."""
    clearance, discs = cells.clearance, body.discs
    rows, columns = clearance.shape
    clear = (body.disc_radius + DIAGONAL) * cells.cell_size
    for d in range(discs.shape[0]):
        column = int(np.floor(x + cosine * discs[d, 0] - sine * discs[d, 1]))
        row = int(np.floor(y + sine * discs[d, 0] + cosine * discs[d, 1]))
        if not (0 <= row < rows and 0 <= column < columns) or clearance[row, column] <= clear:
            return False
    return True


@njit(cache=True, nogil=True)
def touch_at(cells, body, shape, x, y, heading):  # type: ignore[no-untyped-def]
    """`touched_cell` at a pose, looked for only where cheaper bounds do not tell that there is none."""
    clearance = cells.clearance
    rows, columns = clearance.shape
    row, column = int(np.floor(y)), int(np.floor(x))
    # No farther than half a diagonal from this cell's middle and from the other's.
    clear = (body.outer_radius + DIAGONAL) * cells.cell_size
    if 0 <= row < rows and 0 <= column < columns and clearance[row, column] > clear:
        return -1
    cosine, sine = np.cos(heading), np.sin(heading)
    if discs_are_clear(cells, body, x, y, cosine, sine):
        return -1
    return touched_cell(cells, body, shape, x, y, cosine, sine)


@njit(cache=True, nogil=True)
def first_touch(cells, body, poses):  # type: ignore[no-untyped-def]
    """For each pose (N, 3) the flat index of a forbidden cell that a `BodyShape` touches there, or -1.

    Body and poses are in cells, in the grid's frame; see `touched_cell`. What lies between two poses is not looked at.
    """
    result = np.empty(poses.shape[0], np.int64)
    shape = np.empty(body.outline.shape)
    for i in range(poses.shape[0]):
        result[i] = touch_at(cells, body, shape, poses[i, 0], poses[i, 1], poses[i, 2])
    return result


@njit(cache=True, nogil=True)
def touches(cells, body, poses):  # type: ignore[no-untyped-def]
    """Whether a `BodyShape` touches a forbidden cell at any of the poses (N, 3); see `first_touch`.

    Every eighth pose is looked at first, then those after each: what is in the way is mostly found soon.
    """
    shape = np.empty(body.outline.shape)
    for first in range(STRIDE):
        for i in range(first, poses.shape[0], STRIDE):
            if touch_at(cells, body, shape, poses[i, 0], poses[i, 1], poses[i, 2]) >= 0:
                return True
    return False
