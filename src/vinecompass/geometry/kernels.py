"""Kernels that several folders call."""

from __future__ import annotations

import numpy as np
from numba import njit

TURN = 2.0 * np.pi
ONE_SPOT_SHARE, ONE_SPOT_REACH = 0.45, 0.5
"""A direction hangs on one spot if more than this part of what shows it lies within so many metres."""


@njit(cache=True, nogil=True)
def carry(x, y, heading, points, result):  # type: ignore[no-untyped-def]
    """Carry points (N, 2) from the frame of a pose to the frame that the pose is given in, into `result`."""
    cosine, sine = np.cos(heading), np.sin(heading)
    for i in range(points.shape[0]):
        result[i, 0] = x + cosine * points[i, 0] - sine * points[i, 1]
        result[i, 1] = y + sine * points[i, 0] + cosine * points[i, 1]


@njit(cache=True, nogil=True, error_model="numpy")
def compose_pairs(first, second, result):  # type: ignore[no-untyped-def]
    """Poses `second`, given in the frames `first`, in the frames that those are given in; N of each, or one for all."""
    for i in range(result.shape[0]):
        a, b = first[i % first.shape[0]], second[i % second.shape[0]]
        cosine, sine = np.cos(a[2]), np.sin(a[2])
        result[i, 0] = a[0] + cosine * b[0] - sine * b[1]
        result[i, 1] = a[1] + sine * b[0] + cosine * b[1]
        result[i, 2] = np.pi - (np.pi - (a[2] + b[2])) % TURN


@njit(cache=True, nogil=True, error_model="numpy")
def interpolate(times, stamps, poses, result):  # type: ignore[no-untyped-def]
    """Poses (M, 3) at `times` (M,) between `poses` (N, 3) at `stamps` (N,), two or more, headings the short way round.

    Held constant beyond both ends. Headings come out in (-pi, pi].
    """
    for i in range(times.shape[0]):
        before = min(max(np.searchsorted(stamps, times[i], side="right") - 1, 0), stamps.shape[0] - 2)
        share = min(max((times[i] - stamps[before]) / (stamps[before + 1] - stamps[before]), 0.0), 1.0)
        for j in range(2):
            result[i, j] = poses[before, j] + share * (poses[before + 1, j] - poses[before, j])
        turn = np.pi - (np.pi - (poses[before + 1, 2] - poses[before, 2])) % TURN
        result[i, 2] = np.pi - (np.pi - (poses[before, 2] + share * turn)) % TURN


@njit(cache=True, nogil=True)
def arc_step(ahead, left, turn_rate, seconds):  # type: ignore[no-untyped-def]
    """Where a body that keeps a velocity gets to in a time: x, y and heading, seen from where it began; see `arc`."""
    turn = turn_rate * seconds
    # Along and across the motion: sin(a) / a and (1 - cos(a)) / a, by their series where the angle is small.
    along, across = (np.sin(turn) / turn, (1.0 - np.cos(turn)) / turn) if abs(turn) > 1e-4 else (1.0, 0.5 * turn)
    return seconds * (along * ahead - across * left), seconds * (across * ahead + along * left), turn


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
def principal_axes(xx, xy, yy):  # type: ignore[no-untyped-def]
    """The heading of the direction in which points scatter most, and their variances along and across it, from their
    variances in x and y and their covariance."""
    middle, spread = 0.5 * (xx + yy), np.sqrt(0.25 * (xx - yy) ** 2 + xy * xy)
    return 0.5 * np.arctan2(2.0 * xy, xx - yy), middle + spread, middle - spread


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


@njit(cache=True, nogil=True)
def write_row(rows, i, values):  # type: ignore[no-untyped-def]
    """Write a row of an array (N, C), part by part: whole-array assignments take seconds to compile."""
    for part in range(rows.shape[1]):
        rows[i, part] = values[part]
