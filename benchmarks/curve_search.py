"""Shortest curves by Newton's method: every word's end pose is solved for numerically, from many first guesses."""

from __future__ import annotations

from typing import Any

import numpy as np
from numba import njit
from numpy.typing import NDArray

FloatArray = NDArray[np.float64]
Word = tuple[FloatArray, FloatArray, FloatArray]
"""The curvature of each segment (M,), and its length from three unknowns p: ``A @ p + b`` with A (M, 3), b (M,)."""
QUARTER = 0.5 * np.pi


def dubins_words() -> list[Word]:
    """Return the six words of curves that go forward (Dubins, 1957)."""
    shapes = ([1, 0, 1], [1, 0, -1], [-1, 0, 1], [-1, 0, -1], [1, -1, 1], [-1, 1, -1])
    return [(np.array(shape, float), np.eye(3), np.zeros(3)) for shape in shapes]


def reeds_shepp_words() -> list[Word]:
    """Return the words that suffice in forward and reverse (Sussmann and Tang, 1991), of any sign of their lengths."""
    unit, none = np.eye(3), np.zeros(3)
    words: list[tuple[Any, Any, Any]] = []
    for side in (1, -1):
        words += [
            ([side, 0, side], unit, [0, 0, 0]),
            ([side, 0, -side], unit, [0, 0, 0]),
            ([side, -side, side], unit, [0, 0, 0]),
        ]
        for sign in (1, -1):
            quarter = sign * QUARTER
            words.append(([side, -side, side, -side], [unit[0], unit[1], sign * unit[1], unit[2]], [0, 0, 0, 0]))
            for last in (side, -side):
                words.append(([side, -side, 0, last], [unit[0], none, unit[1], unit[2]], [0, quarter, 0, 0]))
                words.append(([side, 0, last, -last], [unit[0], unit[1], none, unit[2]], [0, 0, quarter, 0]))
            words += [
                ([side, -side, 0, side, -side], [unit[0], none, unit[1], none, unit[2]], [0, quarter, 0, other, 0])
                for other in (QUARTER, -QUARTER)
            ]
    return [(np.array(k, float), np.array(a, float), np.array(b, float)) for k, a, b in words]


def shortest_length(goal: FloatArray, words: list[Word], guesses: FloatArray, *, forward: bool) -> float:
    """Return the least length of a curve of radius 1 from the origin to a goal pose."""
    return min(word_length(goal, *word, guesses, forward) for word in words)


@njit(cache=True)
def advance(bend, length, x, y, heading):  # type: ignore[no-untyped-def]
    """Pose at the end of a segment."""
    if bend == 0.0:
        return x + length * np.cos(heading), y + length * np.sin(heading), heading
    turned = heading + bend * length
    return x + bend * (np.sin(turned) - np.sin(heading)), y - bend * (np.cos(turned) - np.cos(heading)), turned


@njit(cache=True)
def along(factors, p):  # type: ignore[no-untyped-def]
    """A length from the three unknowns."""
    return factors[0] * p[0] + factors[1] * p[1] + factors[2] * p[2]


@njit(cache=True)
def determinant(a):  # type: ignore[no-untyped-def]
    """Determinant of a matrix (3, 3)."""
    first = a[0, 0] * (a[1, 1] * a[2, 2] - a[1, 2] * a[2, 1])
    second = a[0, 1] * (a[1, 0] * a[2, 2] - a[1, 2] * a[2, 0])
    return first - second + a[0, 2] * (a[1, 0] * a[2, 1] - a[1, 1] * a[2, 0])


@njit(cache=True)
def word_length(goal, bends, factors, constants, guesses, forward):  # type: ignore[no-untyped-def]
    """Least length of a word that ends at the goal; inf if Newton's method finds none."""
    best = np.inf
    slopes = np.empty((3, 3))
    for guess in range(guesses.shape[0]):
        p = guesses[guess].copy()
        for _ in range(40):
            x, y, heading = 0.0, 0.0, 0.0
            slopes[:] = 0.0
            for i in range(bends.size):
                ahead = advance(bends[i], along(factors[i], p) + constants[i], x, y, heading)
                for q in range(3):
                    slopes[0, q] += np.cos(ahead[2]) * factors[i, q] - (ahead[1] - y) * slopes[2, q]
                    slopes[1, q] += np.sin(ahead[2]) * factors[i, q] + (ahead[0] - x) * slopes[2, q]
                    slopes[2, q] += bends[i] * factors[i, q]
                x, y, heading = ahead
            turn = goal[2] - heading
            turn -= 2.0 * np.pi * np.floor((turn + np.pi) / (2.0 * np.pi))
            missed = np.array([goal[0] - x, goal[1] - y, turn])
            # Cramer's rule: numba takes ten seconds to compile a call of LAPACK.
            whole = determinant(slopes)
            if np.abs(missed).sum() < 1e-11 or abs(whole) < 1e-12:
                break
            step = np.empty(3)
            for q in range(3):
                column = slopes[:, q].copy()
                slopes[:, q] = missed
                step[q] = determinant(slopes) / whole
                slopes[:, q] = column
            p += step * min(1.0, 1.0 / np.abs(step).max())
        # Arcs need go round no further than once; the curve must still end there.
        total, x, y, heading = 0.0, 0.0, 0.0, 0.0
        for i in range(bends.size):
            length = along(factors[i], p) + constants[i]
            if bends[i] != 0.0:
                length -= 2.0 * np.pi * np.floor(length / (2.0 * np.pi) + (1e-12 if forward else 0.5))
            elif forward and length < -1e-9:
                total = np.inf
            total += abs(length)
            x, y, heading = advance(bends[i], length, x, y, heading)
        turn = goal[2] - heading
        turn -= 2.0 * np.pi * np.floor((turn + np.pi) / (2.0 * np.pi))
        if abs(goal[0] - x) + abs(goal[1] - y) + abs(turn) < 1e-8 and total < best:
            best = total
    return best
