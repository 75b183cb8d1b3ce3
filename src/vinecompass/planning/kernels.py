"""Kernels of the planners: A* over priced cells, and the price of a straight line."""

from __future__ import annotations

import numpy as np
from numba import njit

DIAGONAL = np.float32(np.sqrt(2.0))


@njit(cache=True, nogil=True)
def enclosed(prices):  # type: ignore[no-untyped-def]
    """Prices (rows, columns) with a closed border one cell wide, and the lowest and highest open price.

    The lowest comes out as nan where any price is nan, and as inf where all floor is closed.
    """
    rows, columns = prices.shape
    result = np.full((rows + 2, columns + 2), np.inf, np.float32)
    lowest, highest = np.float32(np.inf), np.float32(0.0)
    for row in range(rows):
        for column in range(columns):
            price = prices[row, column]
            result[row + 1, column + 1] = price
            if np.isnan(price):
                return result, price, price
            lowest = min(lowest, price)
            if price != np.inf:
                highest = max(highest, price)
    return result, lowest, highest


@njit(cache=True, nogil=True)
def cheapest_path(prices, start, goal, lowest, bucket_width, bucket_count):  # type: ignore[no-untyped-def]
    """A* from cell `start` to cell `goal` over flat indices of `prices` (rows, columns), closed cells being inf.

    The outermost cells must be closed. A step costs its length in cells times the mean price of its two cells; a
    diagonal step needs both cells beside it open. The open set is a ring of buckets by f = g + h, each a linked
    stack: `bucket_count * bucket_width` must exceed the most that f can grow in one step. A bucket is worked off
    whole before the next, and the search ends with the goal's bucket, so the path is a cheapest one.
    Returns the path's flat indices from start to goal (empty if there is none) and the number of cells expanded.
    """
    columns = prices.shape[1]
    price = prices.ravel()
    best = np.full(price.size, np.inf, np.float32)
    came_by = np.zeros(price.size, np.int8)
    offsets = np.array([1, -1, columns, -columns, columns + 1, columns - 1, -columns + 1, -columns - 1], dtype=np.int64)
    row_offsets = np.array([0, 0, 1, -1, 1, 1, -1, -1], dtype=np.int64)
    column_offsets = np.array([1, -1, 0, 0, 1, -1, 1, -1], dtype=np.int64)
    goal_row, goal_column = goal // columns, goal % columns
    diagonal_surplus = np.float32(DIAGONAL - 1.0)
    heads = np.full(bucket_count, -1, np.int32)
    cells = np.empty(1 << 16, np.int32)
    costs = np.empty(1 << 16, np.float32)
    following = np.empty(1 << 16, np.int32)
    used, unused, waiting = 0, -1, 0
    inverse_width = np.float32(1.0 / bucket_width)

    best[start] = 0.0
    first_row, first_column = abs(start // columns - goal_row), abs(start % columns - goal_column)
    low, high = min(first_row, first_column), max(first_row, first_column)
    bucket = int(lowest * (high + diagonal_surplus * low) * inverse_width)
    cells[0], costs[0], following[0] = start, 0.0, -1
    heads[bucket % bucket_count] = 0
    used, waiting = 1, 1
    expanded = 0
    while waiting > 0:
        slot = bucket % bucket_count
        if heads[slot] < 0:
            if best[goal] < np.inf and int(best[goal] * inverse_width) < bucket:
                break
            bucket += 1
            continue
        entry = heads[slot]
        heads[slot] = following[entry]
        cell, cost = cells[entry], costs[entry]
        following[entry] = unused
        unused = entry
        waiting -= 1
        if cost > best[cell]:
            continue
        expanded += 1
        here = np.float32(0.5) * price[cell]
        row = cell // columns
        column = cell - row * columns
        for direction in range(8):
            neighbour = cell + offsets[direction]
            there = price[neighbour]
            step = here + np.float32(0.5) * there
            if direction >= 4:
                step *= DIAGONAL
            reached = cost + step
            if not reached < best[neighbour]:
                continue
            if direction >= 4:
                beside = column_offsets[direction]
                if price[cell + beside] == np.inf or price[neighbour - beside] == np.inf:
                    continue
            best[neighbour] = reached
            came_by[neighbour] = direction
            away_row = abs(row + row_offsets[direction] - goal_row)
            away_column = abs(column + column_offsets[direction] - goal_column)
            low, high = min(away_row, away_column), max(away_row, away_column)
            total = reached + lowest * (np.float32(high) + diagonal_surplus * np.float32(low))
            # Rounding must never file an entry behind the bucket being worked off.
            place = max(int(total * inverse_width), bucket) % bucket_count
            if unused >= 0:
                entry = unused
                unused = following[entry]
            else:
                if used == cells.size:
                    cells = np.concatenate((cells, np.empty_like(cells)))
                    costs = np.concatenate((costs, np.empty_like(costs)))
                    following = np.concatenate((following, np.empty_like(following)))
                entry = used
                used += 1
            cells[entry], costs[entry], following[entry] = neighbour, reached, heads[place]
            heads[place] = entry
            waiting += 1
    if best[goal] == np.inf:
        return np.empty(0, np.int64), expanded
    count, cell = 1, goal
    while cell != start:
        cell -= offsets[came_by[cell]]
        count += 1
    path = np.empty(count, np.int64)
    cell = goal
    for i in range(count - 1, -1, -1):
        path[i] = cell
        cell -= offsets[came_by[cell]]
    return path, expanded


@njit(cache=True, nogil=True)
def line_price(prices, x0, y0, x1, y1):  # type: ignore[no-untyped-def]
    """Integral of the price along a line between two points in cells (column, row); inf if it meets a closed cell.

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
def smooth_points(prices, points, rounds):  # type: ignore[no-untyped-def]
    """Move each inner point (N, 2) halfway to the middle of its neighbours, in turn, where that is open and cheap."""
    for _ in range(rounds):
        for i in range(1, points.shape[0] - 1):
            x = 0.5 * points[i, 0] + 0.25 * (points[i - 1, 0] + points[i + 1, 0])
            y = 0.5 * points[i, 1] + 0.25 * (points[i - 1, 1] + points[i + 1, 1])
            before = line_price(prices, points[i - 1, 0], points[i - 1, 1], points[i, 0], points[i, 1])
            before += line_price(prices, points[i, 0], points[i, 1], points[i + 1, 0], points[i + 1, 1])
            after = line_price(prices, points[i - 1, 0], points[i - 1, 1], x, y)
            after += line_price(prices, x, y, points[i + 1, 0], points[i + 1, 1])
            if after <= before:
                points[i, 0], points[i, 1] = x, y
    return points
