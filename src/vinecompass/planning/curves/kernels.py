"""Kernels of the shortest curves of bounded curvature: Dubins's and Reeds and Shepp's words, for a radius of 1.

A curve is up to five segments (curvature, length): curvature 1 to the left, -1 to the right, 0 straight on; the
length is negative in reverse. Goals are given as seen from the start pose.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.geometry.kernels import TURN

QUARTER = 0.5 * np.pi
EXACT = 1e-10
"""Lengths this little below zero are zero, and a full turn less this much is none: what rounding makes of them."""


@njit(cache=True, nogil=True)
def full(angle):  # type: ignore[no-untyped-def]
    """An angle as an arc of 0 or more, less than a full turn."""
    result = angle - TURN * np.floor(angle / TURN)
    return 0.0 if result > TURN - EXACT else result


@njit(cache=True, nogil=True)
def half(angle):  # type: ignore[no-untyped-def]
    """An angle between minus and plus half a turn."""
    return angle - TURN * np.floor((angle + np.pi) / TURN)


@njit(cache=True, nogil=True)
def keep(curve, c0, l0, c1, l1, c2, l2, c3, l3, c4, l4):  # type: ignore[no-untyped-def]
    """Write the five segments of a curve."""
    curve[0, 0] = c0
    curve[0, 1] = l0
    curve[1, 0] = c1
    curve[1, 1] = l1
    curve[2, 0] = c2
    curve[2, 1] = l2
    curve[3, 0], curve[3, 1], curve[4, 0], curve[4, 1] = c3, l3, c4, l4


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
def reeds_shepp(x, y, heading, curve):  # type: ignore[no-untyped-def]
    """Length of the shortest curve, forward and in reverse, to a pose. Fills `curve` (5, 2).

    The words of Reeds and Shepp (1990), numbered as there: each is solved for a first turn to the left going forward;
    the goal turned about in time and mirrored (`forth`, `side`) gives the others, and the goal as seen from its own
    end (`xb`, `yb`) those run backwards.
    """
    best = np.inf
    sine_0, cosine = np.sin(heading), np.cos(heading)
    for forth in (1.0, -1.0):
        for side in (1.0, -1.0):
            px, py, phi, sine = x * forth, y * side, heading * forth * side, sine_0 * forth * side
            left, right = side, -side
            a, b = px - sine, py - 1.0 + cosine  # from the first left circle's centre to the last left one's
            c, d = px + sine, py - 1.0 - cosine  # and to the last right one's
            same, other = np.sqrt(a * a + b * b), np.sqrt(c * c + d * d)
            same_bearing, other_bearing = np.arctan2(b, a), np.arctan2(d, c)
            # 8.1: left, straight, left.
            t = half(same_bearing)
            if t >= -EXACT:
                v = half(phi - t)
                if v >= -EXACT and abs(t) + same + abs(v) < best:
                    best = abs(t) + same + abs(v)
                    keep(curve, left, forth * t, 0.0, forth * same, left, forth * v, 0.0, 0.0, 0.0, 0.0)
            # 8.2: left, straight, right.
            if other >= 2.0:
                u = np.sqrt(other * other - 4.0)
                if u < best:
                    t = half(other_bearing + np.arctan2(2.0, u))
                    v = half(t - phi)
                    if t >= -EXACT and v >= -EXACT and abs(t) + u + abs(v) < best:
                        best = abs(t) + u + abs(v)
                        keep(curve, left, forth * t, 0.0, forth * u, right, forth * v, 0.0, 0.0, 0.0, 0.0)
            # 8.3 and 8.4: left, back right, left.
            if same <= 4.0:
                u = -2.0 * np.arcsin(0.25 * same)
                t = half(same_bearing + 0.5 * u + np.pi)
                if t >= -EXACT and abs(t) + abs(u) < best:
                    v = half(phi - t + u)
                    if abs(t) + abs(u) + abs(v) < best:
                        best = abs(t) + abs(u) + abs(v)
                        keep(curve, left, forth * t, right, forth * u, left, forth * v, 0.0, 0.0, 0.0, 0.0)
            # 8.7: left, right, back left, back right, the two in the middle equally long.
            rho = 0.25 * (2.0 + other)
            if rho <= 1.0:
                u = np.arccos(rho)
                t, v = four_arcs(u, -u, c, d, phi)
                if t >= -EXACT and v <= EXACT and abs(t) + 2.0 * abs(u) + abs(v) < best:
                    best = abs(t) + 2.0 * abs(u) + abs(v)
                    keep(curve, left, forth * t, right, forth * u, left, -forth * u, right, forth * v, 0.0, 0.0)
            # 8.8: left, back right, back left, right, likewise.
            rho = (20.0 - other * other) / 16.0
            if 0.0 <= rho <= 1.0:
                u = -np.arccos(rho)
                t, v = four_arcs(u, u, c, d, phi)
                if t >= -EXACT and v >= -EXACT and abs(t) + 2.0 * abs(u) + abs(v) < best:
                    best = abs(t) + 2.0 * abs(u) + abs(v)
                    keep(curve, left, forth * t, right, forth * u, left, forth * u, right, forth * v, 0.0, 0.0)
            # 8.9: left, back a quarter right, straight, left.
            if same >= 2.0:
                r = np.sqrt(same * same - 4.0)
                u = 2.0 - r
                if u <= EXACT and abs(u) + QUARTER < best:
                    t = half(same_bearing + np.arctan2(r, -2.0))
                    v = half(phi - QUARTER - t)
                    if t >= -EXACT and v <= EXACT and abs(t) + QUARTER + abs(u) + abs(v) < best:
                        best = abs(t) + QUARTER + abs(u) + abs(v)
                        keep(curve, left, forth * t, right, -forth * QUARTER, 0.0, forth * u, left, forth * v, 0.0, 0.0)
            if other >= 2.0:
                # 8.10: left, back a quarter right, straight, right.
                u = 2.0 - other
                if abs(u) + QUARTER < best:
                    t = half(other_bearing + QUARTER)
                    v = half(t + QUARTER - phi)
                    if t >= -EXACT and v <= EXACT and abs(t) + QUARTER + abs(u) + abs(v) < best:
                        best = abs(t) + QUARTER + abs(u) + abs(v)
                        keep(
                            curve, left, forth * t, right, -forth * QUARTER, 0.0, forth * u, right, forth * v, 0.0, 0.0
                        )
                # 8.11: left, back a quarter right, straight, a quarter left, right.
                u = 4.0 - np.sqrt(other * other - 4.0)
                if u <= EXACT and abs(u) + np.pi < best:
                    t = half(np.arctan2((4.0 - u) * c - 2.0 * d, -2.0 * c + (u - 4.0) * d))
                    v = half(t - phi)
                    if t >= -EXACT and v >= -EXACT and abs(t) + np.pi + abs(u) + abs(v) < best:
                        best = abs(t) + np.pi + abs(u) + abs(v)
                        keep(
                            curve,
                            left,
                            forth * t,
                            right,
                            -forth * QUARTER,
                            0.0,
                            forth * u,
                            left,
                            -forth * QUARTER,
                            right,
                            forth * v,
                        )
            # The same words run backwards, towards the start as seen from the goal.
            xb, yb = px * cosine + py * sine, px * sine - py * cosine
            a, b, c, d = xb - sine, yb - 1.0 + cosine, xb + sine, yb - 1.0 - cosine
            if same <= 4.0:
                u = -2.0 * np.arcsin(0.25 * same)
                t = half(np.arctan2(b, a) + 0.5 * u + np.pi)
                if t >= -EXACT and abs(t) + abs(u) < best:
                    v = half(phi - t + u)
                    if abs(t) + abs(u) + abs(v) < best:
                        best = abs(t) + abs(u) + abs(v)
                        keep(curve, left, forth * v, right, forth * u, left, forth * t, 0.0, 0.0, 0.0, 0.0)
            if same >= 2.0:
                r = np.sqrt(same * same - 4.0)
                u = 2.0 - r
                if u <= EXACT and abs(u) + QUARTER < best:
                    t = half(np.arctan2(b, a) + np.arctan2(r, -2.0))
                    v = half(phi - QUARTER - t)
                    if t >= -EXACT and v <= EXACT and abs(t) + QUARTER + abs(u) + abs(v) < best:
                        best = abs(t) + QUARTER + abs(u) + abs(v)
                        keep(curve, left, forth * v, 0.0, forth * u, right, -forth * QUARTER, left, forth * t, 0.0, 0.0)
            other = np.sqrt(c * c + d * d)
            if other >= 2.0:
                u = 2.0 - other
                if abs(u) + QUARTER < best:
                    t = half(np.arctan2(d, c) + QUARTER)
                    v = half(t + QUARTER - phi)
                    if t >= -EXACT and v <= EXACT and abs(t) + QUARTER + abs(u) + abs(v) < best:
                        best = abs(t) + QUARTER + abs(u) + abs(v)
                        keep(
                            curve, right, forth * v, 0.0, forth * u, right, -forth * QUARTER, left, forth * t, 0.0, 0.0
                        )
    return best


@njit(cache=True, nogil=True)
def four_arcs(u, v, a, b, phi):  # type: ignore[no-untyped-def]
    """First and last arc of a word of four arcs whose middle two are u and v (Reeds and Shepp, 1990, eq. 8.6)."""
    delta = half(u - v)
    p, q = np.sin(u) - np.sin(delta), np.cos(u) - np.cos(delta) - 1.0
    bearing = np.arctan2(b * p - a * q, a * p + b * q)
    turned = 2.0 * (np.cos(delta) - np.cos(v) - np.cos(u)) + 3.0 < 0.0
    first = half(bearing + np.pi) if turned else half(bearing)
    return first, half(first - u + v - phi)


@njit(cache=True, nogil=True)
def curve_lengths(starts, goals, radius, words):  # type: ignore[no-untyped-def]
    """Lengths (N,) of the shortest curves between poses (N, 3): Dubins's by some `words`; with none, in reverse too."""
    result = np.empty(starts.shape[0])
    curve = np.zeros((5, 2))
    for i in range(starts.shape[0]):
        x, y, heading = seen_from(starts[i], goals[i], radius)
        length = dubins(x, y, heading, words, curve) if words.size else reeds_shepp(x, y, heading, curve)
        result[i] = radius * length
    return result


@njit(cache=True, nogil=True)
def shortest_curve(start, goal, radius, words):  # type: ignore[no-untyped-def]
    """Segments (5, 2) of the shortest curve between two poses, curvatures and signed lengths, for a radius of 1."""
    curve = np.zeros((5, 2))
    x, y, heading = seen_from(start, goal, radius)
    length = dubins(x, y, heading, words, curve) if words.size else reeds_shepp(x, y, heading, curve)
    return length, curve


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
