"""Kernels over priced floor: what a line costs, which cells beams pass, and how dear floor is about people."""

from __future__ import annotations

import numpy as np
from numba import njit

NO_WAYS = np.zeros((0, 0), np.float32)
"""What stands for the headings of one-way zones where there is none."""


@njit(cache=True, nogil=True)
def against(way, x, y):  # type: ignore[no-untyped-def]
    """Whether a step goes against a one-way heading (nan: none), that is, more than a quarter turn off it."""
    return np.cos(way) * x + np.sin(way) * y < -1e-6


@njit(cache=True, nogil=True)
def line_price(prices, one_way, x0, y0, x1, y1):  # type: ignore[no-untyped-def]
    """Integral of the price along a line between two points in cells (column, row); inf if it meets a closed cell.

    It is inf, too, if it goes against a heading in `one_way` (of the prices' shape, or of size 0 if there is none).

    Every cell that the line passes is visited (Amanatides and Woo, 1987); through a corner it passes both sides.
    """
    rows, columns = prices.shape
    dx, dy = x1 - x0, y1 - y0
    length = np.hypot(dx, dy)
    column, row = int(np.floor(x0)), int(np.floor(y0))
    step_column, step_row = (1 if dx > 0.0 else -1), (1 if dy > 0.0 else -1)
    delta_column = abs(1.0 / dx) if dx != 0.0 else np.inf
    delta_row = abs(1.0 / dy) if dy != 0.0 else np.inf
    next_column = (column + 1 - x0 if dx > 0.0 else x0 - column) * delta_column if dx != 0.0 else np.inf
    next_row = (row + 1 - y0 if dy > 0.0 else y0 - row) * delta_row if dy != 0.0 else np.inf
    at, total = 0.0, 0.0
    while True:
        if not (0 <= row < rows and 0 <= column < columns) or prices[row, column] == np.inf:
            return np.inf
        if one_way.size > 0 and length > 0.0 and against(one_way[row, column], dx / length, dy / length):
            return np.inf
        leave = min(next_column, next_row, 1.0)
        total += prices[row, column] * (leave - at) * length
        at = leave
        if leave >= 1.0:
            return total
        if abs(next_column - next_row) < 1e-9:
            # Through a corner: the two cells beside it must be open too.
            if not (0 <= row + step_row < rows and 0 <= column + step_column < columns):
                return np.inf
            if prices[row + step_row, column] == np.inf or prices[row, column + step_column] == np.inf:
                return np.inf
            column += step_column
            row += step_row
            next_column += delta_column
            next_row += delta_row
        elif next_column < next_row:
            column += step_column
            next_column += delta_column
        else:
            row += step_row
            next_row += delta_row


@njit(cache=True, nogil=True)
def drive_price(floor, poses):  # type: ignore[no-untyped-def]
    """Integral of a `PricedFloor`'s price along the lines between poses (N, 3) in cells; inf where one is closed."""
    total = 0.0
    for i in range(1, poses.shape[0]):
        total += line_price(floor.prices, floor.one_way, poses[i - 1, 0], poses[i - 1, 1], poses[i, 0], poses[i, 1])
        if total == np.inf:
            break
    return total


SURE_BEFORE = 3.0
"""Cells before its end from which on a beam says nothing of what it passes."""
SURE_PART = 0.35
"""Cells from its middle within which a beam must come to pass a cell."""


@njit(cache=True, nogil=True)
def pass_beams(  # type: ignore[no-untyped-def]
    until, own, mask, origins, ends, hit, forget_at, grazed, first, last, low, high
):
    """Note until when the cell that each beam (N, 2), in cells, ends in is remembered, and forget those it passes.

    `until` (rows, columns) holds stamps; only cells that are `own` are noted, with the beam's stamp of `forget_at`
    (N,). A beam passes the cells whose middle part it crosses, up to `SURE_BEFORE` cells before its end. What it only
    grazes may stand beside it: that is remembered until `grazed` at the longest. Ends are noted after all beams have
    passed. `first` and `last` are the row and column where the window begins that this is done in, and those after it;
    `low` and `high` the same of the part of it in which anything is remembered so far.
    Returns the row and column (E, 2) of the cells that a beam ends in and that were not in the `mask`, where they are
    entered.
    """
    (first_row, first_column), (last_row, last_column) = first, last
    (low_row, low_column), (high_row, high_column) = low, high
    for beam in range(ends.shape[0]):
        x, y = origins[beam, 0], origins[beam, 1]
        dx, dy = ends[beam, 0] - x, ends[beam, 1] - y
        length = np.hypot(dx, dy)
        if not length > 0.0:
            continue
        # Half a cell at a time: it may skip a corner, and the next scan meets it.
        dx, dy = 0.5 * dx / length, 0.5 * dy / length
        steps = int(2.0 * (length - SURE_BEFORE)) if hit[beam] else int(2.0 * length)
        # It forgets something only where something is remembered.
        enters, leaves = 0.0, float(steps)
        for at, step, low, high in ((x, dx, low_column, high_column), (y, dy, low_row, high_row)):
            if step != 0.0:
                one, other = (low - at) / step, (high - at) / step
                enters, leaves = max(enters, min(one, other)), min(leaves, max(one, other))
        if enters > leaves:
            continue
        for i in range(int(enters), min(int(leaves) + 1, steps)):
            at_x, at_y = x + i * dx, y + i * dy
            column, row = int(np.floor(at_x)), int(np.floor(at_y))
            if not (low_row <= row < high_row and low_column <= column < high_column):
                continue
            if abs(at_x - column - 0.5) < SURE_PART and abs(at_y - row - 0.5) < SURE_PART:
                until[row, column] = -np.inf
            elif until[row, column] > grazed:
                until[row, column] = grazed
    entered, count = np.empty((ends.shape[0], 2), np.int64), 0
    for beam in range(ends.shape[0]):
        row, column = int(np.floor(ends[beam, 1])), int(np.floor(ends[beam, 0]))
        if hit[beam] and first_row <= row < last_row and first_column <= column < last_column and own[row, column]:
            until[row, column] = forget_at[beam]
            if not mask[row, column]:
                mask[row, column] = True
                entered[count, 0], entered[count, 1] = row, column
                count += 1
    return entered[:count]


@njit(cache=True, nogil=True)
def draw_egg(x, y, heading, spreads, rise, farthest, result):  # type: ignore[no-untyped-def]
    """Price factors (rows, columns) at `y` (rows,) and `x` (columns,) seen from a person who walks that way.

    1 and a Gaussian of height `rise`, cut off at so many spreads. `spreads`: ahead, behind, to the left and the right.
    """
    cosine, sine = np.cos(heading), np.sin(heading)
    ahead, behind, left, right = spreads
    for row in range(y.shape[0]):
        for column in range(x.shape[0]):
            along, across = cosine * x[column] + sine * y[row], cosine * y[row] - sine * x[column]
            along /= ahead if along > 0.0 else behind
            across /= left if across > 0.0 else right
            exponent = 0.5 * (along * along + across * across)
            result[row, column] = 1.0 + (rise * np.exp(-exponent) if exponent < 0.5 * farthest * farthest else 0.0)
