"""Kernels of scan matching. Points and poses are in the field's own frame, in cells."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def best_offset(field, points, guess, turns, steps):  # type: ignore[no-untyped-def]
    """Try every turn and every offset in x and y about a guess; return the best pose and its mean agreement.

    `points` (N, 2) in the body frame; `turns` (T,) radians are added to the guess, and whole cells up to `steps` each way.
    Each point is read from the cell it falls in; points off the field agree with nothing. Ties go to the first.
    """
    rows, columns = field.shape
    best = guess.copy()
    best_sum = -1.0
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
def normal_equations(field, points, pose):  # type: ignore[no-untyped-def]
    """Gauss-Newton sums for the residuals 1 - field at each point, the field read bilinearly between cell centres.

    Returns the matrix (3, 3), the right-hand side (3,) and the mean agreement.
    """
    rows, columns = field.shape
    matrix, right = np.zeros((3, 3)), np.zeros(3)
    agreement = 0.0
    cosine, sine = np.cos(pose[2]), np.sin(pose[2])
    gradient = np.empty(3)
    for i in range(points.shape[0]):
        dx = cosine * points[i, 0] - sine * points[i, 1]
        dy = sine * points[i, 0] + cosine * points[i, 1]
        x, y = pose[0] + dx - 0.5, pose[1] + dy - 0.5
        column, row = int(np.floor(x)), int(np.floor(y))
        if not (0 <= row < rows - 1 and 0 <= column < columns - 1):
            continue
        u, v = x - column, y - row
        f00, f01 = field[row, column], field[row, column + 1]
        f10, f11 = field[row + 1, column], field[row + 1, column + 1]
        value = (1 - v) * ((1 - u) * f00 + u * f01) + v * ((1 - u) * f10 + u * f11)
        gradient[0] = (1 - v) * (f01 - f00) + v * (f11 - f10)
        gradient[1] = (1 - u) * (f10 - f00) + u * (f11 - f01)
        gradient[2] = gradient[1] * dx - gradient[0] * dy
        agreement += value
        for a in range(3):
            right[a] += gradient[a] * (1.0 - value)
            for b in range(3):
                matrix[a, b] += gradient[a] * gradient[b]
    return matrix, right, agreement / max(points.shape[0], 1)


@njit(cache=True, nogil=True)
def refine(field, points, first, guess, weights, most_iterations):  # type: ignore[no-untyped-def]
    """Levenberg-Marquardt from pose `first`, with a quadratic pull of `weights` (3,) towards `guess`.

    Returns the pose and the mean agreement there. 1 - agreement stands in for the mean squared residual: it falls
    where that falls, and is at hand.
    """
    pose = first.copy()
    damping = 1e-3
    matrix, right, agreement = normal_equations(field, points, pose)
    cost = points.shape[0] * (1.0 - agreement) + 0.5 * np.sum(weights * (pose - guess) ** 2)
    for _ in range(most_iterations):
        # Solve (M + damping diag M) step = right for the symmetric 3 x 3 matrix, by cofactors.
        a = (matrix[0, 0] + weights[0]) * (1.0 + damping) + 1e-9
        b = (matrix[1, 1] + weights[1]) * (1.0 + damping) + 1e-9
        c = (matrix[2, 2] + weights[2]) * (1.0 + damping) + 1e-9
        d, e, f = matrix[1, 2], matrix[0, 2], matrix[0, 1]
        u, v, w = right - weights * (pose - guess)
        ca, cb, cc = b * c - d * d, a * c - e * e, a * b - f * f
        cd, ce, cf = e * f - a * d, d * f - b * e, d * e - c * f
        determinant = a * ca + f * cf + e * ce
        step = np.array([ca * u + cf * v + ce * w, cf * u + cb * v + cd * w, ce * u + cd * v + cc * w]) / determinant
        candidate = pose + step
        new_matrix, new_right, new_agreement = normal_equations(field, points, candidate)
        new_cost = points.shape[0] * (1.0 - new_agreement) + 0.5 * np.sum(weights * (candidate - guess) ** 2)
        if new_cost < cost:
            pose, cost, matrix, right, agreement = candidate, new_cost, new_matrix, new_right, new_agreement
            damping = max(damping * 0.3, 1e-6)
            if np.hypot(step[0], step[1]) < 0.01 and abs(step[2]) < 1e-4:
                break
        else:
            damping *= 8.0
            if damping > 1e3:
                break
    return pose, agreement
