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
def heaviest_spot(points, weights, radius):  # type: ignore[no-untyped-def]
    """Return the largest sum of weights (N,) of the points (N, 2) within a radius of one of them."""
    heaviest = 0.0
    for i in range(points.shape[0]):
        total = 0.0
        for j in range(points.shape[0]):
            if (points[i, 0] - points[j, 0]) ** 2 + (points[i, 1] - points[j, 1]) ** 2 < radius * radius:
                total += weights[j]
        heaviest = max(heaviest, total)
    return heaviest
