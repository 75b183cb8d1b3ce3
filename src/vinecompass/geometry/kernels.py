"""Kernels that several folders call."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def solve_in_place(matrix, right):  # type: ignore[no-untyped-def]
    """Solve a small symmetric positive definite system by Cholesky's method; the solution replaces `right`."""
    size = right.shape[0]
    for i in range(size):
        for j in range(i + 1):
            total = matrix[i, j]
            for k in range(j):
                total -= matrix[i, k] * matrix[j, k]
            matrix[i, j] = np.sqrt(total) if i == j else total / matrix[j, j]
    for i in range(size):
        for k in range(i):
            right[i] -= matrix[i, k] * right[k]
        right[i] /= matrix[i, i]
    for i in range(size - 1, -1, -1):
        for k in range(i + 1, size):
            right[i] -= matrix[k, i] * right[k]
        right[i] /= matrix[i, i]


@njit(cache=True, nogil=True)
def heaviest_share(points, shown, radius):  # type: ignore[no-untyped-def]
    """Return the largest share of what points (N, 2) show that lies within a radius of one of them.

    `shown` (N,) is what each shows; those that show less than a quarter of the most are no part of any spot.
    """
    least, heaviest = 0.25 * shown.max() if shown.shape[0] else 0.0, 0.0
    for i in range(points.shape[0]):
        if shown[i] <= least:
            continue
        total = 0.0
        for j in range(points.shape[0]):
            near = (points[i, 0] - points[j, 0]) ** 2 + (points[i, 1] - points[j, 1]) ** 2 < radius * radius
            if near and shown[j] > least:
                total += shown[j]
        heaviest = max(heaviest, total)
    return heaviest / max(shown.sum(), 1e-300)
