"""Kernels of the shortest curves of bounded curvature: Dubins's and Reeds and Shepp's words, for a radius of 1.

A curve is up to five segments (curvature, length): curvature 1 to the left, -1 to the right, 0 straight on; the
length is negative in reverse. Goals are given as seen from the start pose.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.geometry.kernels import TURN
from vinecompass.planning.curves.piece_kernels import EXACT, full, half, keep
from vinecompass.planning.curves.reeds_shepp_kernels import reeds_shepp


@njit(cache=True, nogil=True)
def dubins(x, y, heading, words, curve):  # type: ignore[no-untyped-def]
    """Length of the shortest curve forward to a pose, by one of the `words` allowed: LSL, LSR, RSL, RSR, RLR, LRL.

    Geometry of the two circles that touch start and goal (Dubins, 1957): a straight word joins them by a tangent,
    the others by a third circle. Fills `curve` (5, 2); inf if no allowed word gets there.
    """
    best = np.inf
    sine, cosine = np.sin(heading), np.cos(heading)
    for first in (1.0, -1.0):
        for last in (1.0, -1.0):
            word = (0 if last > 0.0 else 1) if first > 0.0 else (2 if last > 0.0 else 3)
            # From the centre of the first circle, left or right of the start, to that of the last.
            across, up = x - last * sine, y + last * cosine - first
            distance = np.sqrt(across * across + up * up)
            bearing = np.arctan2(up, across)
            if words[word]:
                if first == last:
                    straight, tangent = distance, bearing
                elif distance >= 2.0:
                    straight = np.sqrt(distance * distance - 4.0)
                    tangent = bearing + first * np.arctan2(2.0, straight)
                else:
                    straight, tangent = np.inf, 0.0
                if straight < best:
                    begin, end = full(first * tangent), full(last * (heading - tangent))
                    if begin + straight + end < best:
                        best = begin + straight + end
                        keep(curve, first, begin, 0.0, straight, last, end, 0.0, 0.0, 0.0, 0.0)
            if first == last and words[5 if first > 0.0 else 4] and distance <= 4.0:
                # The third circle touches both; its arc is more than half a turn, or it would be no shortest curve.
                corner = np.arcsin(0.25 * distance)
                begin, middle = full(first * bearing + np.pi - corner), TURN - 2.0 * corner
                end = full(first * heading - begin + middle)
                if begin + middle + end < best:
                    best = begin + middle + end
                    keep(curve, first, begin, -first, middle, first, end, 0.0, 0.0, 0.0, 0.0)
    return best


@njit(cache=True, nogil=True)
def curve_lengths(starts, goals, radius, words):  # type: ignore[no-untyped-def]
    """Lengths (N,) of the shortest curves between poses (N, 3): Dubins's by some `words`; with none, in reverse too."""
    result = np.empty(starts.shape[0])
    curve = np.zeros((5, 2))
    for i in range(starts.shape[0]):
        x, y, heading = seen_from(starts[i], goals[i], radius)
        result[i] = radius * shortest(x, y, heading, words, curve)
    return result


@njit(cache=True, nogil=True)
def shortest_curve(start, goal, radius, words):  # type: ignore[no-untyped-def]
    """Segments (5, 2) of the shortest curve between two poses, curvatures and signed lengths, for a radius of 1."""
    curve = np.zeros((5, 2))
    x, y, heading = seen_from(start, goal, radius)
    return shortest(x, y, heading, words, curve), curve


@njit(cache=True, nogil=True)
def shortest(x, y, heading, words, curve):  # type: ignore[no-untyped-def]
    """Length of the shortest curve to a pose, by some `words` of Dubins's; with none, in reverse too. Fills `curve`."""
    if words.size:
        return dubins(x, y, heading, words, curve)
    return reeds_shepp(x, y, heading, 1.0, 0.0, np.inf, curve)


@njit(cache=True, nogil=True)
def seen_from(start, goal, radius):  # type: ignore[no-untyped-def]
    """A goal pose in the frame of the start pose, lengths divided by the radius."""
    dx, dy = (goal[0] - start[0]) / radius, (goal[1] - start[1]) / radius
    cosine, sine = np.cos(start[2]), np.sin(start[2])
    return cosine * dx + sine * dy, cosine * dy - sine * dx, half(goal[2] - start[2])


@njit(cache=True, nogil=True)
def curve_poses(start, curve, radius, spacing):  # type: ignore[no-untyped-def]
    """Poses (N, 3) along a curve from a start pose, every piece's ends among them, at most `spacing` apart."""
    counts = np.zeros(5, np.int64)
    for i in range(5):
        if abs(curve[i, 1]) > EXACT:
            counts[i] = int(np.ceil(radius * abs(curve[i, 1]) / spacing))
    result = np.empty((counts.sum() + 1, 3))
    x, y, heading = start[0], start[1], start[2]
    result[0, 0], result[0, 1], result[0, 2] = x, y, heading
    count = 1
    for i in range(5):
        bend, length = curve[i, 0], curve[i, 1]
        for j in range(1, counts[i] + 1):
            way = length * j / counts[i]
            if bend == 0.0:
                px, py = x + radius * way * np.cos(heading), y + radius * way * np.sin(heading)
            else:
                px = x + radius * bend * (np.sin(heading + bend * way) - np.sin(heading))
                py = y - radius * bend * (np.cos(heading + bend * way) - np.cos(heading))
            result[count, 0] = px
            result[count, 1] = py
            result[count, 2] = half(heading + bend * way)
            count += 1
        if counts[i]:
            x, y, heading = px, py, heading + bend * length
    return result
