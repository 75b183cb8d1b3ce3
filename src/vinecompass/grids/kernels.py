"""Kernels over grids: exact distance transform, and the counting of beams. Plain arrays in and out."""

from __future__ import annotations

import numpy as np
from numba import njit

INFINITE = np.float32(np.inf)
FULL_HIT = 4
"""What a beam counts in the cell that it surely ended in; one that may have ended in others counts down to 1."""


@njit(cache=True, nogil=True)
def squared_distance(occupied):  # type: ignore[no-untyped-def]
    """Squared distance in cells of every cell to the nearest True one, float32; inf where there is none."""
    rows, columns = occupied.shape
    far = np.int32(rows + columns)
    # First pass, down and up each column: distance to the nearest occupied cell of the same column.
    column_distance = np.empty((rows, columns), np.int32)
    for column in range(columns):
        column_distance[0, column] = 0 if occupied[0, column] else far
    for row in range(1, rows):
        for column in range(columns):
            one_more = np.int32(column_distance[row - 1, column] + 1)
            column_distance[row, column] = np.int32(0) if occupied[row, column] else one_more
    for row in range(rows - 2, -1, -1):
        for column in range(columns):
            below = np.int32(column_distance[row + 1, column] + 1)
            column_distance[row, column] = min(below, column_distance[row, column])
    # Second pass, along each row: lower envelope of the parabolas x -> (x - apex)^2 + height. Two of them cross where
    # the difference of their values at x = 0 is twice x times that of their apexes; halves are looked up, not divided.
    result = np.empty((rows, columns), np.float32)
    apex, at_zero, begin = np.empty(columns, np.int32), np.empty(columns), np.empty(columns + 1)
    halves = np.zeros(columns + 1)
    for i in range(1, columns + 1):
        halves[i] = 0.5 / i
    for row in range(rows):
        count = 0
        for column in range(columns):
            distance = column_distance[row, column]
            if distance >= far:
                continue
            value = np.float64(distance) * distance + np.float64(column) * column
            start = -1.0
            while count > 0:
                crossing = (value - at_zero[count - 1]) * halves[column - apex[count - 1]]
                if crossing > begin[count - 1]:
                    start = crossing
                    break
                count -= 1
            apex[count], at_zero[count], begin[count] = column, value, start
            count += 1
        if count == 0:
            result[row] = INFINITE
            continue
        begin[count] = columns
        column = 0
        for piece in range(count):
            height = at_zero[piece] - np.float64(apex[piece]) * apex[piece]
            last = min(int(np.floor(begin[piece + 1])) + 1, columns)
            while column < last:
                offset = column - apex[piece]
                result[row, column] = offset * offset + height
                column += 1
    return result


@njit(cache=True, nogil=True)
def beam_extent(origins, ends, pose):  # type: ignore[no-untyped-def]
    """Return the lowest x, y and the highest x, y that beams (N, 2), given in the body frame, reach from a pose."""
    cosine, sine = np.cos(pose[2]), np.sin(pose[2])
    low_x, low_y, high_x, high_y = np.inf, np.inf, -np.inf, -np.inf
    for points in (origins, ends):
        for i in range(points.shape[0]):
            x = cosine * points[i, 0] - sine * points[i, 1]
            y = sine * points[i, 0] + cosine * points[i, 1]
            low_x, high_x = min(low_x, x), max(high_x, x)
            low_y, high_y = min(low_y, y), max(high_y, y)
    return low_x + pose[0], low_y + pose[1], high_x + pose[0], high_y + pose[1]


@njit(cache=True, nogil=True)
def mark_beams(marks, origins, ends, hit, pose, scale, first_row, first_column, margin, spread):  # type: ignore[no-untyped-def]
    """Mark the cells of one scan in a window: 1 where a beam passed, 2 to 5 where one ended on something.

    `origins` and `ends` (N, 2) of the beams are in the body frame, m; those that are `hit` (N,) ended on something
    and pass only up to `margin` metres before it, and `spread` metres more for each metre that they went. The less
    sure it is in which cell they ended, the lower the mark. `pose` is the body's in the grid's frame, `scale` cells a
    metre.
    `marks` (rows, columns), all 0, begins at the given row and column of the grid. Returns the cells walked.
    """
    walked = 0
    cosine, sine = np.cos(pose[2]) * scale, np.sin(pose[2]) * scale
    x_shift, y_shift = pose[0] * scale - first_column, pose[1] * scale - first_row
    for beam in range(ends.shape[0]):
        ox, oy = np.float64(origins[beam, 0]), np.float64(origins[beam, 1])
        dx, dy = ends[beam, 0] - ox, ends[beam, 1] - oy
        if hit[beam]:
            length = np.hypot(dx, dy)
            short = margin + spread * length
            if length <= short:
                continue
            dx, dy = dx * (1.0 - short / length), dy * (1.0 - short / length)
        x, y = cosine * ox - sine * oy + x_shift, sine * ox + cosine * oy + y_shift
        dx, dy = cosine * dx - sine * dy, sine * dx + cosine * dy
        # Along the longer axis, each line of cells is entered at one cell and left at the same or the next one.
        # Written out for either axis: one walk over strides is a fifth slower.
        if abs(dx) >= abs(dy):
            if dx < 0.0:
                x, y, dx, dy = x + dx, y + dy, -dx, -dy
            column, last, row = int(x), int(x + dx), int(y)
            slope = dy / dx if dx > 0.0 else 0.0
            start = y + slope * (1.0 - x)
            walked += 1 + last - column + abs(int(y + dy) - row)
            for c in range(column, last):
                marks[row, c] = 1
                row = int(start + slope * c)
                marks[row, c] = 1
            marks[row, last] = 1
            marks[int(y + dy), last] = 1
        else:
            if dy < 0.0:
                x, y, dx, dy = x + dx, y + dy, -dx, -dy
            row, last, column = int(y), int(y + dy), int(x)
            slope = dx / dy
            start = x + slope * (1.0 - y)
            walked += 1 + last - row + abs(int(x + dx) - column)
            for r in range(row, last):
                marks[r, column] = 1
                column = int(start + slope * r)
                marks[r, column] = 1
            marks[last, column] = 1
            marks[last, int(x + dx)] = 1
    for beam in range(ends.shape[0]):
        if hit[beam]:
            x = cosine * ends[beam, 0] - sine * ends[beam, 1] + x_shift
            y = sine * ends[beam, 0] + cosine * ends[beam, 1] + y_shift
            off = spread * scale * np.hypot(ends[beam, 0] - origins[beam, 0], ends[beam, 1] - origins[beam, 1])
            sure = np.uint8(max(FULL_HIT / (1.0 + off * off) + 0.5, 1.0))
            marks[int(y), int(x)] = max(marks[int(y), int(x)], np.uint8(1 + sure))
    return walked


@njit(cache=True, nogil=True)
def count_marks(marks, slots, hits, passes, change):  # type: ignore[no-untyped-def]
    """Add `change` to the counts of every marked cell, and wipe the marks.

    `slots` (tile rows, tile columns) says where in `hits` and `passes` (tiles, side, side) each tile of the window
    lies, or is below 0 where the tile holds no mark.
    """
    side = hits.shape[1]
    for tile_row in range(slots.shape[0]):
        for tile_column in range(slots.shape[1]):
            slot = slots[tile_row, tile_column]
            if slot < 0:
                continue
            for r in range(side):
                line = marks[tile_row * side + r, tile_column * side : (tile_column + 1) * side]
                tile_hits, tile_passes = hits[slot, r], passes[slot, r]
                for c in range(side):
                    tile_hits[c] += change * np.uint16(line[c] - 1 if line[c] > 1 else 0)
                    tile_passes[c] += change * np.uint16(line[c] == 1)
                    line[c] = 0


@njit(cache=True, nogil=True)
def march(distance, x, y, ux, uy, reach):  # type: ignore[no-untyped-def]
    """Follow a ray over the cells' distance to the nearest occupied one (rows, columns), all in cells.

    Returns how far it gets before it enters an occupied cell; inf if it leaves the grid or gets as far as `reach`.
    As far as the nearest occupied cell is away, so far the ray can leap at once.
    """
    rows, columns = distance.shape
    way = 0.0
    while way < reach:
        column, row = x + way * ux, y + way * uy
        if not (0.0 <= column < columns and 0.0 <= row < rows):
            return np.inf
        free = distance[np.uint32(row), np.uint32(column)]
        if free == 0.0:
            return way
        # Distances are between centres of cells: point and wall may both lie most of a half diagonal nearer.
        way += max(free - 1.5, 0.35)
    return np.inf


@njit(cache=True, nogil=True)
def march_rays(distance, poses, angles, reach):  # type: ignore[no-untyped-def]
    """Follow rays at `angles` (M,) from each of some poses (N, 3): how far each gets (N, M), all in cells."""
    result = np.empty((poses.shape[0], angles.shape[0]), np.float32)
    for i in range(poses.shape[0]):
        for j in range(angles.shape[0]):
            heading = poses[i, 2] + angles[j]
            result[i, j] = march(distance, poses[i, 0], poses[i, 1], np.cos(heading), np.sin(heading), reach)
    return result
