"""Kernels of scan matching. Points and poses are in the field's own frame, in cells."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.geometry.kernels import solve_in_place


@njit(cache=True, nogil=True)
def best_offset(field, points, guess, turns, steps):  # type: ignore[no-untyped-def]
    """Try every turn and every offset in x and y about a guess; return the best pose and its mean agreement.

    `points` (N, 2) in the body frame; `turns` (T,) radians and whole cells up to `steps` each way are added to the
    guess. Each point is read from the cell it falls in; points off the field agree with nothing. Ties go to the first.
    """
    rows, columns = field.shape
    best = guess.copy()
    best_sum = np.float32(-1.0)
    turned_columns = np.empty(points.shape[0], np.int64)
    turned_rows = np.empty(points.shape[0], np.int64)
    for turn in turns:
        heading = guess[2] + turn
        cosine, sine = np.cos(heading), np.sin(heading)
        for i in range(points.shape[0]):
            turned_columns[i] = int(np.floor(guess[0] + cosine * points[i, 0] - sine * points[i, 1]))
            turned_rows[i] = int(np.floor(guess[1] + sine * points[i, 0] + cosine * points[i, 1]))
        for dx in range(-steps, steps + 1):
            for dy in range(-steps, steps + 1):
                total = np.float32(0.0)
                for i in range(points.shape[0]):
                    column, row = turned_columns[i] + dx, turned_rows[i] + dy
                    if 0 <= row < rows and 0 <= column < columns:
                        total += field[row, column]
                if total > best_sum:
                    best_sum = total
                    best[0], best[1], best[2] = guess[0] + dx, guess[1] + dy, heading
    return best, best_sum / max(points.shape[0], 1)


@njit(cache=True, nogil=True)
def wall_near(log_odds, hit_sums, threshold, x, y, reach):  # type: ignore[no-untyped-def]
    """The wall near a point (cells): a point on it and its unit normal, from the mean hits of occupied cells about it.

    The occupied cell with the mean hit nearest to the point is sought within `reach` cells; the wall is the line
    through the mean hits about that cell that fits them best. Returns (found, wall x, wall y, normal x, normal y);
    too few cells, or cells that do not lie along a line, are no wall.
    """
    rows, columns = log_odds.shape
    column, row = int(np.floor(x)), int(np.floor(y))
    best, best_row, best_column = (reach + 0.5) ** 2, -1, -1
    low_row, high_row = max(row - reach, 0), min(row + reach + 1, rows)
    for r in range(low_row, high_row):
        low_column, high_column = max(column - reach, 0), min(column + reach + 1, columns)
        for c in range(low_column, high_column):
            if log_odds[r, c] > threshold:
                count = hit_sums[r, c, 2]
                away = (c + hit_sums[r, c, 0] / count - x) ** 2 + (r + hit_sums[r, c, 1] / count - y) ** 2
                if away < best:
                    best, best_row, best_column = away, r, c
    if best_row < 0:
        return False, 0.0, 0.0, 0.0, 0.0
    total, mx, my, xx, yy, xy, cells = 0.0, 0.0, 0.0, 0.0, 0.0, 0.0, 0
    low_row, high_row = max(best_row - reach, 0), min(best_row + reach + 1, rows)
    for r in range(low_row, high_row):
        low_column, high_column = max(best_column - reach, 0), min(best_column + reach + 1, columns)
        for c in range(low_column, high_column):
            if log_odds[r, c] > threshold:
                count = hit_sums[r, c, 2]
                hx, hy = c - best_column + hit_sums[r, c, 0] / count, r - best_row + hit_sums[r, c, 1] / count
                # A cell hit often is known better, but not without bound: its hits share the poses they came from.
                weight = min(count, 20.0)
                total += weight
                mx += weight * hx
                my += weight * hy
                xx += weight * hx * hx
                yy += weight * hy * hy
                xy += weight * hx * hy
                cells += 1
    if cells < 3:
        return False, 0.0, 0.0, 0.0, 0.0
    mx, my = mx / total, my / total
    xx, yy, xy = xx / total - mx * mx, yy / total - my * my, xy / total - mx * my
    middle, spread = 0.5 * (xx + yy), np.sqrt(0.25 * (xx - yy) ** 2 + xy * xy)
    if middle - spread > 0.15 * (middle + spread):
        return False, 0.0, 0.0, 0.0, 0.0
    # The normal is the eigenvector of the smaller eigenvalue, at right angles to the wall's direction.
    angle = 0.5 * np.arctan2(2.0 * xy, xx - yy)
    return True, best_column + mx, best_row + my, -np.sin(angle), np.cos(angle)


@njit(cache=True, nogil=True)
def align_to_walls(log_odds, hit_sums, threshold, points, delays, first, weights, reach, scatter, most_iterations):  # type: ignore[no-untyped-def]
    """Gauss-Newton on the distances of points (N, 2) to the walls near them.

    Sought are five numbers: the pose, and what is wrong with the speed and turn rate that the points, seen `delays`
    (N,) after the stamp, were straightened by. `first` (5,) is where to start and `weights` (5,) pull back to it, as
    so many points would. A point `scatter` cells off its wall counts half (Cauchy weights). Returns the five
    numbers and how many points had a wall.
    """
    solution = first.copy()
    matrix, step, row = np.empty((5, 5)), np.empty(5), np.empty(5)
    matched = 0
    for _ in range(most_iterations):
        matrix[:] = 0.0
        for k in range(5):
            matrix[k, k] = weights[k]
            step[k] = weights[k] * (first[k] - solution[k])
        cosine, sine = np.cos(solution[2]), np.sin(solution[2])
        matched = 0
        for i in range(points.shape[0]):
            turn, advance = solution[4] * delays[i], solution[3] * delays[i]
            px = points[i, 0] + advance - turn * points[i, 1]
            py = points[i, 1] + turn * points[i, 0]
            dx, dy = cosine * px - sine * py, sine * px + cosine * py
            x, y = solution[0] + dx, solution[1] + dy
            found, wall_x, wall_y, nx, ny = wall_near(log_odds, hit_sums, threshold, x, y, reach)
            if not found:
                continue
            matched += 1
            distance = nx * (x - wall_x) + ny * (y - wall_y)
            weight = 1.0 / (1.0 + (distance / scatter) ** 2)
            row[0], row[1], row[2] = nx, ny, ny * dx - nx * dy
            row[3] = delays[i] * (nx * cosine + ny * sine)
            row[4] = delays[i] * row[2]
            for j in range(5):
                step[j] -= weight * row[j] * distance
                for k in range(j + 1):
                    matrix[j, k] += weight * row[j] * row[k]
        solve_in_place(matrix, step)
        solution += step
        if abs(step[0]) + abs(step[1]) < 0.004 and abs(step[2]) < 2e-5:
            break
    return solution, matched


@njit(cache=True, nogil=True)
def mean_agreement(field, points, pose):  # type: ignore[no-untyped-def]
    """Mean of the field in the cells that points (N, 2) fall in from a pose; 0 off the field."""
    rows, columns = field.shape
    total = 0.0
    cosine, sine = np.cos(pose[2]), np.sin(pose[2])
    for i in range(points.shape[0]):
        column = int(np.floor(pose[0] + cosine * points[i, 0] - sine * points[i, 1]))
        row = int(np.floor(pose[1] + sine * points[i, 0] + cosine * points[i, 1]))
        if 0 <= row < rows and 0 <= column < columns:
            total += field[row, column]
    return total / max(points.shape[0], 1)
