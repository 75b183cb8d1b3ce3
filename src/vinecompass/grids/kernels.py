"""Kernels over grids: exact distance transform and ray integration. Plain arrays in and out."""

from __future__ import annotations

import numpy as np
from numba import njit

INFINITE = np.float32(np.inf)


@njit(cache=True, nogil=True)
def squared_distance(occupied):  # type: ignore[no-untyped-def]
    """Squared distance in cells of every cell to the nearest True one, float32; inf where there is none."""
    rows, columns = occupied.shape
    far = np.int64(rows + columns)
    # First pass, down and up each column: distance to the nearest occupied cell of the same column.
    column_distance = np.empty((rows, columns), np.int32)
    for column in range(columns):
        column_distance[0, column] = 0 if occupied[0, column] else far
    for row in range(1, rows):
        for column in range(columns):
            if occupied[row, column]:
                column_distance[row, column] = 0
            else:
                column_distance[row, column] = column_distance[row - 1, column] + 1
    for row in range(rows - 2, -1, -1):
        for column in range(columns):
            below = column_distance[row + 1, column] + 1
            if below < column_distance[row, column]:
                column_distance[row, column] = below
    # Second pass, along each row: lower envelope of the parabolas x -> (x - apex)^2 + height(apex).
    result = np.empty((rows, columns), np.float32)
    apex = np.empty(columns, np.int64)
    height = np.empty(columns, np.int64)
    begin = np.empty(columns + 1, np.float64)
    for row in range(rows):
        count = 0
        for column in range(columns):
            distance = np.int64(column_distance[row, column])
            if distance >= far:
                continue
            squared = distance * distance
            start = -1.0
            while count > 0:
                last = apex[count - 1]
                crossing = (squared - height[count - 1] + column * column - last * last) / (2.0 * (column - last))
                if crossing > begin[count - 1]:
                    start = crossing
                    break
                count -= 1
            apex[count] = column
            height[count] = squared
            begin[count] = start
            count += 1
        if count == 0:
            for column in range(columns):
                result[row, column] = INFINITE
            continue
        begin[count] = columns
        piece = 0
        for column in range(columns):
            while begin[piece + 1] < column:
                piece += 1
            offset = column - apex[piece]
            result[row, column] = offset * offset + height[piece]
    return result


@njit(cache=True, nogil=True)
def integrate_rays(log_odds, hit_sums, stamps, stamp, hits, origins, ends, occupied_step, free_step, bound):  # type: ignore[no-untyped-def]
    """Add one scan to a grid: the cells that `hits` (H, 2) lie in gain, those that rays pass lose, each once a scan.

    `hits`, `origins` and `ends` (N, 2) are in cells, column before row; a ray's last cell is not counted as passed.
    `hit_sums` (rows, columns, 3) gathers where in a cell the hits lie: the sums of x and y in the cell, and how many.
    `stamps` (rows, columns) holds the number of the last scan that touched a cell, `stamp` is this scan's.
    Cells are walked as in Amanatides and Woo (1987). Returns the number of cells walked.
    """
    rows, columns = log_odds.shape
    for hit in range(hits.shape[0]):
        column, row = int(np.floor(hits[hit, 0])), int(np.floor(hits[hit, 1]))
        if 0 <= row < rows and 0 <= column < columns:
            hit_sums[row, column, 0] += hits[hit, 0] - column
            hit_sums[row, column, 1] += hits[hit, 1] - row
            hit_sums[row, column, 2] += 1.0
            if stamps[row, column] != stamp:
                stamps[row, column] = stamp
                log_odds[row, column] = min(log_odds[row, column] + occupied_step, bound)
    walked = 0
    for ray in range(ends.shape[0]):
        x, y = origins[ray, 0], origins[ray, 1]
        dx, dy = ends[ray, 0] - x, ends[ray, 1] - y
        column, row = int(np.floor(x)), int(np.floor(y))
        last_column, last_row = int(np.floor(ends[ray, 0])), int(np.floor(ends[ray, 1]))
        step_column = 1 if dx > 0.0 else -1
        step_row = 1 if dy > 0.0 else -1
        delta_column = abs(1.0 / dx) if dx != 0.0 else np.inf
        delta_row = abs(1.0 / dy) if dy != 0.0 else np.inf
        next_column = (column + 1 - x if dx > 0.0 else x - column) * delta_column if dx != 0.0 else np.inf
        next_row = (row + 1 - y if dy > 0.0 else y - row) * delta_row if dy != 0.0 else np.inf
        count = abs(last_column - column) + abs(last_row - row)
        walked += count
        for _ in range(count):
            if 0 <= row < rows and 0 <= column < columns and stamps[row, column] != stamp:
                stamps[row, column] = stamp
                log_odds[row, column] = max(log_odds[row, column] - free_step, -bound)
            if next_column < next_row:
                next_column += delta_column
                column += step_column
            else:
                next_row += delta_row
                row += step_row
    return walked


@njit(cache=True, nogil=True)
def smear(log_odds, hit_sums, field, threshold, spread, reach, first_row, last_row, first_column, last_column):  # type: ignore[no-untyped-def]
    """Renew a block of a likelihood field: a Gaussian about the mean hit in each cell above `threshold`, highest kept.

    `spread` and `reach`, where the Gaussian is cut off, are in cells. The block runs to the last row and column
    exclusively, and comes out as it would had all of the field been renewed.
    """
    rows, columns = log_odds.shape
    field[first_row:last_row, first_column:last_column] = 0.0
    along_row, along_column = np.empty(2 * reach + 1, np.float32), np.empty(2 * reach + 1, np.float32)
    scale = -0.5 / (spread * spread)
    low_block_row, high_block_row = max(first_row - reach, 0), min(last_row + reach, rows)
    for row in range(low_block_row, high_block_row):
        low_block_column, high_block_column = max(first_column - reach, 0), min(last_column + reach, columns)
        for column in range(low_block_column, high_block_column):
            if log_odds[row, column] <= threshold:
                continue
            count = hit_sums[row, column, 2]
            x, y = hit_sums[row, column, 0] / count - 0.5, hit_sums[row, column, 1] / count - 0.5
            for k in range(2 * reach + 1):
                along_row[k] = np.exp(scale * (k - reach - x) ** 2)
                along_column[k] = np.exp(scale * (k - reach - y) ** 2)
            left, right = max(column - reach, first_column), min(column + reach + 1, last_column)
            low_row, high_row = max(row - reach, first_row), min(row + reach + 1, last_row)
            for r in range(low_row, high_row):
                height = along_column[r - row + reach]
                for c in range(left, right):
                    field[r, c] = max(field[r, c], height * along_row[c - column + reach])
