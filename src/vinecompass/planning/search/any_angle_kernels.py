"""Kernel of any-angle A*."""

from __future__ import annotations

import heapq

import numpy as np
from numba import njit

from vinecompass.costs.kernels import line_price
from vinecompass.planning.search.kernels import COLUMN_STEPS, ROW_STEPS


@njit(cache=True, nogil=True)
def any_angle_path(prices, one_way, start, goal, bounds):  # type: ignore[no-untyped-def]
    """Theta* from a cell to another over prices (rows, columns), `bounds` from below to the goal, inf to leave out.

    Returns the corners' flat indices from start to goal, the number of cells expanded, and 16 for each of them.
    """
    rows, columns = prices.shape
    costs = np.full(prices.size, np.inf)
    parent = np.full(prices.size, -1, np.int64)
    expanded_cells = np.zeros(prices.size, np.uint8)
    costs[start], parent[start] = 0.0, start
    waiting = [(bounds[start], start)]
    expanded = 0
    while len(waiting) > 0:
        key, cell = heapq.heappop(waiting)
        if key > costs[cell] + bounds[cell] + 1e-9:
            continue
        if cell == goal:
            break
        expanded += 1
        expanded_cells[cell] = 16
        origin = parent[cell]
        row, column = cell // columns, cell % columns
        origin_row, origin_column = origin // columns, origin % columns
        for move in range(8):
            next_row, next_column = row + ROW_STEPS[move], column + COLUMN_STEPS[move]
            if not (0 <= next_row < rows and 0 <= next_column < columns):
                continue
            neighbour = next_row * columns + next_column
            if bounds[neighbour] == np.inf or prices[next_row, next_column] == np.inf:
                continue
            # Neither line can be cheaper than the straight distance from the predecessor's own.
            nearest = costs[origin] + np.hypot(next_row - origin_row, next_column - origin_column)
            if nearest >= costs[neighbour]:
                continue
            x, y = next_column + 0.5, next_row + 0.5
            straight = costs[origin] + line_price(prices, one_way, origin_column + 0.5, origin_row + 0.5, x, y)
            step = costs[cell] + line_price(prices, one_way, column + 0.5, row + 0.5, x, y)
            reached, via = (straight, origin) if straight <= step else (step, cell)
            if reached < costs[neighbour] - 1e-12:
                costs[neighbour], parent[neighbour] = reached, via
                heapq.heappush(waiting, (reached + bounds[neighbour], neighbour))
    count, cell = 0, goal
    if costs[goal] < np.inf:
        count = 1
        while cell != start:
            cell = parent[cell]
            count += 1
    path = np.empty(count, np.int64)
    cell = goal
    for i in range(count - 1, -1, -1):
        path[i] = cell
        cell = parent[cell]
    return path, expanded, expanded_cells


@njit(cache=True, nogil=True)
def pull_tight(prices, one_way, points, rounds):  # type: ignore[no-untyped-def]
    """Pull a way over points (N, 2), column before row, tight about the corners of closed cells, where that is cheaper.

    A shortest way among polygons bends at their corners only. Each inner point in turn is moved to the corner near it
    that makes its two lines cheapest, a hair's breadth off the closed cell, or left out.
    """
    rows, columns = prices.shape
    hair = 1e-4
    points = points.copy()
    count = points.shape[0]
    for _ in range(rounds):
        moved = False
        i = 1
        while i < count - 1:
            ax, ay, bx, by = points[i - 1, 0], points[i - 1, 1], points[i + 1, 0], points[i + 1, 1]
            x, y = points[i, 0], points[i, 1]
            best = line_price(prices, one_way, ax, ay, x, y) + line_price(prices, one_way, x, y, bx, by)
            if line_price(prices, one_way, ax, ay, bx, by) <= best:
                points[i : count - 1] = points[i + 1 : count].copy()
                count -= 1
                moved = True
                continue
            best -= 1e-9
            for corner_y in range(int(y) - 1, int(y) + 3):
                for corner_x in range(int(x) - 1, int(x) + 3):
                    for side in range(4):
                        right, up = side & 1, side >> 1
                        row, column = corner_y - 1 + up, corner_x - 1 + right
                        if not (0 <= row < rows and 0 <= column < columns) or prices[row, column] != np.inf:
                            continue
                        px = corner_x + (hair if right == 0 else -hair)
                        py = corner_y + (hair if up == 0 else -hair)
                        price = line_price(prices, one_way, ax, ay, px, py)
                        if price < best:
                            price += line_price(prices, one_way, px, py, bx, by)
                            if price < best:
                                best = price
                                points[i, 0], points[i, 1] = px, py
                                moved = True
            i += 1
        if not moved:
            break
    return points[:count]
