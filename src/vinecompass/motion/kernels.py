"""Kernels of motion: what a drive can reach, how it brakes, and where a step leads. Limits are a `MotionLimits`."""

from __future__ import annotations

import numpy as np
from numba import njit

HALVINGS = 30
"""Times that the way between two velocities is halved to find the one that just keeps the limits: to a billionth."""
ROUNDING = 1e-9
"""Share by which a limit may be passed for rounding."""


@njit(cache=True, nogil=True)
def toward(value, target, faster, slower):  # type: ignore[no-untyped-def]
    """Move a speed towards its target: by `faster` at most away from standstill, by `slower` at most towards it.

    A change of direction stops at standstill first.
    """
    if value > 0.0:
        return min(max(target, max(value - slower, 0.0)), value + faster)
    if value < 0.0:
        return max(min(target, min(value + slower, 0.0)), value - faster)
    return min(max(target, -faster), faster)


@njit(cache=True, nogil=True)
def clamp(value, low, high):  # type: ignore[no-untyped-def]
    """Return the value between two bounds that is nearest to one."""
    return min(max(value, low), high)


@njit(cache=True, nogil=True)
def steps_of(limits, seconds):  # type: ignore[no-untyped-def]
    """How much a speed may grow and shrink within some seconds, and a turn rate change."""
    return limits.acceleration * seconds, limits.braking * seconds, limits.turn_acceleration * seconds


@njit(cache=True, nogil=True)
def ramp(steps, wanted, current):  # type: ignore[no-untyped-def]
    """Move a velocity, three numbers, towards the one wanted by what each part may change; see `steps_of`.

    Whether the wheels can do it all together is not asked: between two velocities that they can, they can.
    """
    faster, slower, turning = steps
    turn_rate = clamp(wanted[2], current[2] - turning, current[2] + turning)
    speed = toward(current[0], wanted[0], faster, slower)
    if wanted[1] == 0.0 and current[1] == 0.0:
        return speed, 0.0, turn_rate
    sideways = toward(current[1], wanted[1], faster, slower)
    # Both at once, the whole change is what the limits hold for.
    most = slower if np.hypot(wanted[0], wanted[1]) < np.hypot(current[0], current[1]) else faster
    share = min(1.0, most / max(np.hypot(speed - current[0], sideways - current[1]), 1e-12))
    return current[0] + share * (speed - current[0]), current[1] + share * (sideways - current[1]), turn_rate


@njit(cache=True, nogil=True)
def load(limits, speed, sideways, turn_rate):  # type: ignore[no-untyped-def]
    """Speed of the fastest wheel's rim, or of the body, as a share of what it may be."""
    fastest, rolling = 0.0, limits.rolling
    for wheel in range(rolling.shape[0]):
        rim = rolling[wheel, 0] * speed + rolling[wheel, 1] * sideways + rolling[wheel, 2] * turn_rate
        fastest = max(fastest, abs(rim))
    return max(fastest / limits.top_rim_speed, np.hypot(speed, sideways) / limits.top_speed)


@njit(cache=True, nogil=True)
def reach_velocity(limits, wanted, current, seconds):  # type: ignore[no-untyped-def]
    """Speed ahead and to the left and turn rate nearest to those wanted that are reached from the current ones in time.

    `wanted` and `current` are three numbers each, all finite. See `limit_command`.
    """
    speed = clamp(wanted[0], -limits.reverse_speed, limits.top_speed)
    sideways = clamp(wanted[1], -limits.top_sideways, limits.top_sideways)
    turn_rate = clamp(wanted[2], -limits.top_turn_rate, limits.top_turn_rate)
    share = min(1.0, 1.0 / max(load(limits, speed, sideways, turn_rate), 1e-9))
    steps = steps_of(limits, seconds)
    speed, sideways, turn_rate = ramp(steps, (share * speed, share * sideways, share * turn_rate), current)
    if limits.turning_radius > 0.0:
        widest = abs(speed) / limits.turning_radius
        turn_rate = clamp(turn_rate, -widest, widest)
    if load(limits, speed, sideways, turn_rate) <= 1.0 + ROUNDING:
        return speed, sideways, turn_rate
    # Reached at different times, the three ask too much together: the turn gives way as fast as it can, then the speed.
    _, _, straightest = ramp(steps, (speed, sideways, 0.0), current)
    low = (current[0], current[1], straightest)
    high = (speed, sideways, straightest)
    if load(limits, speed, sideways, straightest) <= 1.0:
        low = high
        high = (speed, sideways, turn_rate)
    for _ in range(HALVINGS):
        middle = (0.5 * (low[0] + high[0]), 0.5 * (low[1] + high[1]), 0.5 * (low[2] + high[2]))
        if load(limits, middle[0], middle[1], middle[2]) <= 1.0:
            low = middle
        else:
            high = middle
    return low


@njit(cache=True, nogil=True)
def follow(limits, reached, velocity, seconds):  # type: ignore[no-untyped-def]
    """Velocity of a base that follows what it has `reached` with a first-order lag, three numbers each.

    Without a lag it is what was reached.
    """
    if limits.lag <= 0.0:
        return reached
    share = 1.0 - np.exp(-seconds / limits.lag)
    return (
        velocity[0] + share * (reached[0] - velocity[0]),
        velocity[1] + share * (reached[1] - velocity[1]),
        velocity[2] + share * (reached[2] - velocity[2]),
    )


@njit(cache=True, nogil=True)
def along_chord(cosine, sine, ahead, left):  # type: ignore[no-untyped-def]
    """How far a body comes in x and y that moves so far ahead and to the left at a mean heading's cosine and sine.

    Where speeds and turn rate change evenly within a step, its chord lies along the heading halfway.
    """
    return cosine * ahead - sine * left, sine * ahead + cosine * left


@njit(cache=True, nogil=True)
def turned_a_little(cosine, sine, angle):  # type: ignore[no-untyped-def]
    """Cosine and sine of a heading turned by an angle of a tenth of a radian at most, by their series."""
    square = angle * angle
    c = 1.0 - 0.5 * square * (1.0 - square / 12.0)
    s = angle * (1.0 - square / 6.0 * (1.0 - square / 20.0))
    return cosine * c - sine * s, sine * c + cosine * s


@njit(cache=True, nogil=True)
def stopping_distance(speed, braking):  # type: ignore[no-untyped-def]
    """Metres that braking to a stand takes."""
    return speed * speed / (2.0 * braking)


@njit(cache=True, nogil=True)
def speed_to_stop_within(distance, braking):  # type: ignore[no-untyped-def]
    """The highest speed from which braking takes no more than so many metres; 0 where there are none."""
    return np.sqrt(2.0 * braking * max(distance, 0.0))
