"""Kernels of the cheapest curves forward and in reverse, for a radius of 1: Reeds and Shepp's words, 1990.

With a reverse price of 1 and a change price of 0 they are the shortest. The words are numbered as there. Each is solved
for a first turn to the left going forward; a mirrored goal (`Goal`) gives the others, and the start as seen from the
goal those run backwards.
"""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit

from vinecompass.planning.curves.piece_kernels import EXACT, half, keep, run_backwards

QUARTER = 0.5 * np.pi


class Goal(NamedTuple):
    """A goal as the words see it, and what they cost.

    Parameters
    ----------
    reverse_price, change_price : float
        Of a radius in reverse, and of a change between forward and reverse, beside 1 for a radius ahead.
    forth, left, right : float
        1 or -1: forward as the word says or the other way, and the curvatures of a turn to its left and right.
    heading : float
    same, same_bearing : float
        To the last left circle's centre from the first left circle's.
    other, other_bearing, ahead, aside : float
        And to the last right one's.
    """

    reverse_price: float
    change_price: float
    forth: float
    left: float
    right: float
    heading: float
    same: float
    same_bearing: float
    other: float
    other_bearing: float
    ahead: float
    aside: float


@njit(cache=True, nogil=True)
def take(goal, best, curve, c0, l0, c1, l1, c2, l2, c3, l3, c4, l4):  # type: ignore[no-untyped-def]
    """Keep a word's pieces, curvature and length of each, if they cost less than the best so far; return the least."""
    if abs(l0) + abs(l1) + abs(l2) + abs(l3) + abs(l4) >= best:
        return best
    forth, cost, before = goal.forth, 0.0, 0.0
    for length in (forth * l0, forth * l1, forth * l2, forth * l3, forth * l4):
        # What rounding leaves of a piece is none, and no change of direction.
        if abs(length) <= EXACT:
            continue
        if length * before < 0.0:
            cost += goal.change_price
        cost += length if length > 0.0 else -goal.reverse_price * length
        before = length
    if cost >= best:
        return best
    keep(curve, c0, forth * l0, c1, forth * l1, c2, forth * l2, c3, forth * l3, c4, forth * l4)
    return cost


@njit(cache=True, nogil=True)
def left_straight(goal, best, curve):  # type: ignore[no-untyped-def]
    """Words 8.1 and 8.2: left, straight, and left or right."""
    t, u = half(goal.same_bearing), goal.same
    if t >= -EXACT and u < best:
        v = half(goal.heading - t)
        if v >= -EXACT:
            best = take(goal, best, curve, goal.left, t, 0.0, u, goal.left, v, 0.0, 0.0, 0.0, 0.0)
    if goal.other >= 2.0:
        u = np.sqrt(goal.other * goal.other - 4.0)
        if u < best:
            t = half(goal.other_bearing + np.arctan2(2.0, u))
            v = half(t - goal.heading)
            if t >= -EXACT and v >= -EXACT:
                best = take(goal, best, curve, goal.left, t, 0.0, u, goal.right, v, 0.0, 0.0, 0.0, 0.0)
    return best


@njit(cache=True, nogil=True)
def left_back_right_left(goal, best, curve):  # type: ignore[no-untyped-def]
    """Words 8.3 and 8.4: left, back right, left."""
    if goal.same > 4.0:
        return best
    u = -2.0 * np.arcsin(0.25 * goal.same)
    t = half(goal.same_bearing + 0.5 * u + np.pi)
    if t < -EXACT or abs(t) + abs(u) >= best:
        return best
    v = half(goal.heading - t + u)
    return take(goal, best, curve, goal.left, t, goal.right, u, goal.left, v, 0.0, 0.0, 0.0, 0.0)


@njit(cache=True, nogil=True)
def arcs_about(goal, u, v):  # type: ignore[no-untyped-def]
    """First and last arc of a word of four arcs whose middle two are u and v (their equation 8.6)."""
    delta = half(u - v)
    p, q = np.sin(u) - np.sin(delta), np.cos(u) - np.cos(delta) - 1.0
    bearing = np.arctan2(goal.aside * p - goal.ahead * q, goal.ahead * p + goal.aside * q)
    turned = 2.0 * (np.cos(delta) - np.cos(v) - np.cos(u)) + 3.0 < 0.0
    first = half(bearing + np.pi) if turned else half(bearing)
    return first, half(first - u + v - goal.heading)


@njit(cache=True, nogil=True)
def four_arcs(goal, best, curve):  # type: ignore[no-untyped-def]
    """Words 8.7 and 8.8: left, right, left, right; the middle two equally long, the reversal between or around them."""
    rho = 0.25 * (2.0 + goal.other)
    if rho <= 1.0:
        u = np.arccos(rho)
        t, v = arcs_about(goal, u, -u)
        if t >= -EXACT and v <= EXACT:
            best = take(goal, best, curve, goal.left, t, goal.right, u, goal.left, -u, goal.right, v, 0.0, 0.0)
    rho = (20.0 - goal.other * goal.other) / 16.0
    if 0.0 <= rho <= 1.0:
        u = -np.arccos(rho)
        t, v = arcs_about(goal, u, u)
        if t >= -EXACT and v >= -EXACT:
            best = take(goal, best, curve, goal.left, t, goal.right, u, goal.left, u, goal.right, v, 0.0, 0.0)
    return best


@njit(cache=True, nogil=True)
def quarter_straight(goal, best, curve):  # type: ignore[no-untyped-def]
    """Words 8.9 and 8.10: left, back a quarter right, straight, and left or right."""
    if goal.same >= 2.0:
        r = np.sqrt(goal.same * goal.same - 4.0)
        u = 2.0 - r
        if u <= EXACT and abs(u) + QUARTER < best:
            t = half(goal.same_bearing + np.arctan2(r, -2.0))
            v = half(goal.heading - QUARTER - t)
            if t >= -EXACT and v <= EXACT:
                best = take(goal, best, curve, goal.left, t, goal.right, -QUARTER, 0.0, u, goal.left, v, 0.0, 0.0)
    if goal.other >= 2.0:
        u = 2.0 - goal.other
        if abs(u) + QUARTER < best:
            t = half(goal.other_bearing + QUARTER)
            v = half(t + QUARTER - goal.heading)
            if t >= -EXACT and v <= EXACT:
                best = take(goal, best, curve, goal.left, t, goal.right, -QUARTER, 0.0, u, goal.right, v, 0.0, 0.0)
    return best


@njit(cache=True, nogil=True)
def quarters_about_straight(goal, best, curve):  # type: ignore[no-untyped-def]
    """Word 8.11: left, back a quarter right, straight, a quarter left, right."""
    if goal.other < 2.0:
        return best
    u = 4.0 - np.sqrt(goal.other * goal.other - 4.0)
    if u > EXACT or abs(u) + np.pi >= best:
        return best
    t = half(
        np.arctan2(
            (4.0 - u) * goal.ahead - 2.0 * goal.aside,
            -2.0 * goal.ahead + (u - 4.0) * goal.aside,
        )
    )
    v = half(t - goal.heading)
    if t < -EXACT or v < -EXACT:
        return best
    return take(goal, best, curve, goal.left, t, goal.right, -QUARTER, 0.0, u, goal.left, -QUARTER, goal.right, v)


@njit(cache=True, nogil=True)
def reeds_shepp(x, y, heading, reverse_price, change_price, best, curve):  # type: ignore[no-untyped-def]
    """What the cheapest curve to a pose costs, forward and in reverse, if that is below `best`; else that.

    Fills `curve` (5, 2) if so. The reverse price is 1 or more.
    """
    whole_sine, cosine = np.sin(heading), np.cos(heading)
    for forth in (1.0, -1.0):
        for side in (1.0, -1.0):
            px, py, phi, sine = x * forth, y * side, heading * forth * side, whole_sine * forth * side
            a, b, c, d = px - sine, py - 1.0 + cosine, px + sine, py - 1.0 - cosine
            same, other = np.sqrt(a * a + b * b), np.sqrt(c * c + d * d)
            ahead, across = np.arctan2(b, a), np.arctan2(d, c)
            goal = Goal(reverse_price, change_price, forth, side, -side, phi, same, ahead, other, across, c, d)
            best = left_straight(goal, best, curve)
            best = left_back_right_left(goal, best, curve)
            best = four_arcs(goal, best, curve)
            best = quarter_straight(goal, best, curve)
            best = quarters_about_straight(goal, best, curve)
            # Towards the start as seen from the goal.
            px, py = px * cosine + py * sine, px * sine - py * cosine
            a, b, c, d = px - sine, py - 1.0 + cosine, px + sine, py - 1.0 - cosine
            forward, other = best, np.sqrt(c * c + d * d)
            # Bearings take long: only where a word that asks for them can still win.
            ahead = np.arctan2(b, a) if same <= 4.0 or np.sqrt(same * same - 4.0) - 2.0 + QUARTER < best else 0.0
            across = np.arctan2(d, c) if other >= 2.0 and abs(2.0 - other) + QUARTER < best else 0.0
            start = Goal(reverse_price, change_price, forth, side, -side, phi, same, ahead, other, across, c, d)
            best = left_back_right_left(start, best, curve)
            best = quarter_straight(start, best, curve)
            if best < forward:
                run_backwards(curve)
    return best
