"""Kernels of the normal equations: residuals added up in band storage, and the system solved by Cholesky's method."""

from __future__ import annotations

import numpy as np
from numba import njit

HALF = 11
"""Half bandwidth: an acceleration ties three neighbouring blocks of four unknowns."""


@njit(cache=True, nogil=True)
def add_row(matrix, right, columns, values, count, residual, weight):  # type: ignore[no-untyped-def]
    """Add one weighted residual, with its derivatives by some unknowns, to the normal equations in lower band storage.

    Return what it costs; where there is no room for a matrix, that is all that is asked for.
    """
    cost = weight * residual * residual
    if matrix.shape[0] == 0:
        return cost
    for a in range(count):
        i = columns[a]
        if i < 0:
            continue
        right[i] -= weight * values[a] * residual
        for b in range(count):
            j = columns[b]
            if 0 <= j <= i:
                matrix[i, i - j] += weight * values[a] * values[b]
    return cost


@njit(cache=True, nogil=True)
def solve_band(matrix, right):  # type: ignore[no-untyped-def]
    """Solve a symmetric positive definite system in lower band storage by Cholesky's method, in place.

    False if it is not positive definite.
    """
    size = right.shape[0]
    for i in range(size):
        low = max(i - HALF, 0)
        for j in range(low, i + 1):
            total = matrix[i, i - j]
            first = max(low, j - HALF)
            for k in range(first, j):
                total -= matrix[i, i - k] * matrix[j, j - k]
            if i == j:
                if not total > 0.0:
                    return False
                matrix[i, 0] = np.sqrt(total)
            else:
                matrix[i, i - j] = total / matrix[j, 0]
    for i in range(size):
        low = max(i - HALF, 0)
        for k in range(low, i):
            right[i] -= matrix[i, i - k] * right[k]
        right[i] /= matrix[i, 0]
    for i in range(size - 1, -1, -1):
        for k in range(i + 1, min(i + HALF + 1, size)):
            right[i] -= matrix[k, k - i] * right[k]
        right[i] /= matrix[i, 0]
    return True
