"""Kernels of the fusion filter: how a state goes on by itself, and is corrected by a reading."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.fusion.places import (
    AHEAD,
    CREEP,
    CREEP_TIME,
    CREEP_TURN,
    CREEP_TURNED,
    CREEP_WAY,
    GYRO_BIAS,
    GYRO_CHANGE,
    GYRO_T,
    GYRO_WALK,
    HEADING,
    IMU_HEADING,
    IMU_X,
    IMU_Y,
    LEFT,
    PUSH_BIAS_X,
    PUSH_BIAS_Y,
    PUSH_NOISE,
    PUSH_PERIOD,
    PUSH_T,
    PUSH_WALK,
    PUSH_X,
    PUSH_Y,
    REFERENCE_HEADING,
    REFERENCE_X,
    REFERENCE_Y,
    SIDEWAYS,
    SPEED_CHANGE,
    STATES,
    TURN_RATE,
    TURN_RATE_CHANGE,
    WAY_AHEAD,
    WAY_LEFT,
    WAY_TURNED,
    T,
    X,
    Y,
)
from vinecompass.geometry.kernels import solve_in_place
from vinecompass.motion.kernels import along_chord

LIKELY = 1.5
"""Normalised innovation squared of each part of a reading up to which it counts in full; beyond, the less the more it
is off (a bounded influence: Huber, 1964): scans in plain places err far more often than normal distributions have it.
"""
FRESH = 2.5
"""Periods of an IMU for which its last reading holds."""


@njit(cache=True, nogil=True)
def couple(covariance, part, other, factor):  # type: ignore[no-untyped-def]
    """Let a part of the state gain `factor` times another."""
    for k in range(STATES):
        covariance[part, k] += factor * covariance[other, k]
    for k in range(STATES):
        covariance[k, part] += factor * covariance[k, other]


@njit(cache=True, nogil=True)
def add_noise(covariance, gains, variance):  # type: ignore[no-untyped-def]
    """Add noise of a variance that reaches each part of the state by `gains` (21,)."""
    for i in range(STATES):
        if gains[i] != 0.0:
            for j in range(STATES):
                covariance[i, j] += variance * gains[i] * gains[j]


@njit(cache=True, nogil=True)
def felt_acceleration(state, p, pushed):  # type: ignore[no-untyped-def]
    """The body's acceleration ahead and to the left by what the IMU felt last; none where that is too long ago."""
    if not pushed:
        return 0.0, 0.0
    speed, aside, turn_rate = state[AHEAD], state[LEFT], state[TURN_RATE]
    cosine, sine = np.cos(p[IMU_HEADING]), np.sin(p[IMU_HEADING])
    ax, ay = state[PUSH_X] - state[PUSH_BIAS_X], state[PUSH_Y] - state[PUSH_BIAS_Y]
    # Off the axle, an IMU also feels the turning; what a change of turn rate does to it is in the noise of a step.
    ahead = cosine * ax - sine * ay + turn_rate**2 * p[IMU_X] + turn_rate * aside
    left = sine * ax + cosine * ay + turn_rate**2 * p[IMU_Y] - turn_rate * speed
    return ahead, left if p[SIDEWAYS] != 0.0 else 0.0


@njit(cache=True, nogil=True)
def predict(state, covariance, p, step):  # type: ignore[no-untyped-def]
    """Carry state and covariance on by `step` seconds."""
    pushed = abs(state[T] + 0.5 * step - state[PUSH_T]) < FRESH * p[PUSH_PERIOD]
    ahead, left = felt_acceleration(state, p, pushed)
    turn_rate = state[TURN_RATE]
    middle = state[HEADING] + 0.5 * turn_rate * step
    c, s = np.cos(middle), np.sin(middle)
    mean_x, mean_y = state[AHEAD] + 0.5 * ahead * step, state[LEFT] + 0.5 * left * step
    dx, dy = along_chord(c, s, mean_x, mean_y)
    dx *= step
    dy *= step
    state[X] += dx
    state[Y] += dy
    state[HEADING] += turn_rate * step
    state[AHEAD] += ahead * step
    state[LEFT] += left * step
    state[WAY_AHEAD] += mean_x * step
    state[WAY_LEFT] += mean_y * step
    state[WAY_TURNED] += turn_rate * step
    state[T] += step
    couple_by_motion(covariance, p, step, (c, s), (dx, dy), pushed)
    fade_creep(state, covariance, p, step)
    read = abs(state[T] - 0.5 * step - state[GYRO_T]) < FRESH * p[PUSH_PERIOD]
    add_motion_noise(covariance, p, step, (c, s), pushed, read)


@njit(cache=True, nogil=True)
def couple_by_motion(covariance, p, step, direction, way, pushed):  # type: ignore[no-untyped-def]
    """Carry the covariance on over a step in a mean direction (cosine, sine) by a way (x, y).

    The pose from heading, speeds and turn rate, all as they were before the step: what comes first uses no part that
    was changed already.
    """
    sideways = p[SIDEWAYS] != 0.0
    c, s = direction
    for row in (X, Y):
        by_heading = -way[1] if row == X else way[0]
        by_ahead, by_left = (c * step, -s * step) if row == X else (s * step, c * step)
        by_turn_rate = 0.5 * step * by_heading
        for other, factor in ((HEADING, by_heading), (AHEAD, by_ahead), (LEFT, by_left), (TURN_RATE, by_turn_rate)):
            if other != LEFT or sideways:
                couple(covariance, row, other, factor)
    for part, other in ((HEADING, TURN_RATE), (WAY_AHEAD, AHEAD), (WAY_LEFT, LEFT), (WAY_TURNED, TURN_RATE)):
        if part != WAY_LEFT or sideways:
            couple(covariance, part, other, step)
    if pushed:
        by_x, by_y = np.cos(p[IMU_HEADING]) * step, np.sin(p[IMU_HEADING]) * step
        for part, other, factor in (
            (AHEAD, PUSH_BIAS_X, -by_x),
            (AHEAD, PUSH_BIAS_Y, by_y),
            (LEFT, PUSH_BIAS_X, -by_y),
            (LEFT, PUSH_BIAS_Y, -by_x),
        ):
            if part != LEFT or sideways:
                couple(covariance, part, other, factor)


@njit(cache=True, nogil=True)
def fade_creep(state, covariance, p, step):  # type: ignore[no-untyped-def]
    """Let the creep of the wheels fade, and new creep come."""
    kept = np.exp(-step / p[CREEP_TIME])
    for part in (CREEP_WAY, CREEP_TURNED):
        state[part] *= kept
        for k in range(STATES):
            covariance[part, k] *= kept
        for k in range(STATES):
            covariance[k, part] *= kept
        spread = p[CREEP] if part == CREEP_WAY else p[CREEP_TURN]
        covariance[part, part] += spread**2 * (1.0 - kept**2)


@njit(cache=True, nogil=True)
def add_motion_noise(covariance, p, step, direction, pushed, read):  # type: ignore[no-untyped-def]
    """Add the noise of a step: of the speeds, of the turn rate, and of biases that wander.

    A push within the step shows by half in the pose, a change of turn rate holds for the whole step. `read` tells
    whether a gyro says how the turn rate changes.
    """
    c, s = direction
    sideways = p[SIDEWAYS] != 0.0
    speed_variance = p[PUSH_NOISE] ** 2 * p[PUSH_PERIOD] * step if pushed else p[SPEED_CHANGE] ** 2 * step
    noise = np.zeros(STATES)
    noise[X], noise[Y], noise[AHEAD], noise[WAY_AHEAD] = 0.5 * c * step, 0.5 * s * step, 1.0, 0.5 * step
    add_noise(covariance, noise, speed_variance)
    if sideways:
        noise = np.zeros(STATES)
        noise[X], noise[Y], noise[LEFT], noise[WAY_LEFT] = -0.5 * s * step, 0.5 * c * step, 1.0, 0.5 * step
        add_noise(covariance, noise, speed_variance)
    noise = np.zeros(STATES)
    noise[HEADING], noise[TURN_RATE], noise[WAY_TURNED] = step, 1.0, step
    if pushed:
        noise[AHEAD], noise[LEFT] = p[IMU_Y], -p[IMU_X] if sideways else 0.0
    add_noise(covariance, noise, p[GYRO_CHANGE if read else TURN_RATE_CHANGE] ** 2 * step)
    covariance[GYRO_BIAS, GYRO_BIAS] += p[GYRO_WALK] ** 2 * step
    covariance[PUSH_BIAS_X, PUSH_BIAS_X] += p[PUSH_WALK] ** 2 * step
    covariance[PUSH_BIAS_Y, PUSH_BIAS_Y] += p[PUSH_WALK] ** 2 * step


@njit(cache=True, nogil=True)
def innovation_squared(covariance, rows, residuals, noise, gains):  # type: ignore[no-untyped-def]
    """Return the normalised innovation squared of a reading; `gains` (21, M) becomes its Kalman gain.

    `rows` (M, 21) is the reading's Jacobian, `noise` (M, M) its covariance, which becomes that of the innovation.
    """
    parts = residuals.shape[0]
    crossed = np.empty((STATES, parts))
    for k in range(STATES):
        for m in range(parts):
            total = 0.0
            for j in range(STATES):
                if rows[m, j] != 0.0:
                    total += covariance[k, j] * rows[m, j]
            crossed[k, m] = total
    for m in range(parts):
        for n in range(parts):
            for k in range(STATES):
                noise[m, n] += rows[m, k] * crossed[k, n]
    # Element by element, as whole-array assignments take seconds to compile.
    inverse, factor, unit = np.empty((parts, parts)), np.empty((parts, parts)), np.empty(parts)
    for m in range(parts):
        for i in range(parts):
            unit[i] = 1.0 if i == m else 0.0
            for j in range(parts):
                factor[i, j] = noise[i, j]
        solve_in_place(factor, unit)
        for i in range(parts):
            inverse[m, i] = unit[i]
    result = 0.0
    for m in range(parts):
        for n in range(parts):
            result += residuals[m] * inverse[m, n] * residuals[n]
    for k in range(STATES):
        for m in range(parts):
            gains[k, m] = 0.0
            for n in range(parts):
                gains[k, m] += crossed[k, n] * inverse[n, m]
    # Leave the crossed covariance behind in `rows`, for the update.
    for m in range(parts):
        for k in range(STATES):
            rows[m, k] = crossed[k, m]
    return result


@njit(cache=True, nogil=True)
def leave_past_alone(state, gains):  # type: ignore[no-untyped-def]
    """Change Kalman gains so that the reference stays where it is, and the pose moves only beside it.

    What is learned about biases would shift the whole way since the start, and the pose would leap. So far as a
    correction moves reference and pose alike it is left out: it is doubted as before, and what comes is right.
    """
    dx, dy = state[X] - state[REFERENCE_X], state[Y] - state[REFERENCE_Y]
    for m in range(gains.shape[1]):
        x, y, turned = gains[REFERENCE_X, m], gains[REFERENCE_Y, m], gains[REFERENCE_HEADING, m]
        gains[X, m] -= x - dy * turned
        gains[Y, m] -= y + dx * turned
        gains[HEADING, m] -= turned
        gains[REFERENCE_X, m] = gains[REFERENCE_Y, m] = gains[REFERENCE_HEADING, m] = 0.0


@njit(cache=True, nogil=True)
def correct(state, covariance, rows, residuals, noise, limit, normalised, absolute, own):  # type: ignore[no-untyped-def]
    """Correct the state by a reading unless its normalised innovation squared is beyond `limit`; return whether it was.

    `normalised` (2,) gains the innovation squared and the number of its parts. Only an `absolute` reading tells where
    the reference lay. The parts from ``own[0]`` up to, but not, ``own[1]`` stay as they are: no sensor tells its own
    scale, only another that it is compared with. What it reads is a product of motion and scale, and the error of the
    motion as predicted is in the innovation too, with the other sign: each reading would draw the scale a little to
    the same side, and by thousands of them it runs away.
    """
    parts = residuals.shape[0]
    gains = np.empty((STATES, parts))
    own_noise, own_rows = noise.copy(), rows.copy()
    squared = innovation_squared(covariance, rows, residuals, noise, gains)
    likely = LIKELY * parts
    if likely < squared <= limit:
        for m in range(parts):
            for k in range(STATES):
                rows[m, k] = own_rows[m, k]
            for n in range(parts):
                noise[m, n] = own_noise[m, n] * squared / likely
        innovation_squared(covariance, rows, residuals, noise, gains)
    normalised[0], normalised[1] = squared, parts
    if not squared <= limit:
        return False
    if not absolute:
        leave_past_alone(state, gains)
    for part in range(own[0], own[1]):
        for m in range(parts):
            gains[part, m] = 0.0
    for k in range(STATES):
        for m in range(parts):
            state[k] += gains[k, m] * residuals[m]
    # True of any gains, not only of the best ones (Schmidt, 1966): P - K C' - C K' + K S K', where C' is in `rows`.
    for k in range(STATES):
        for j in range(k + 1):
            total = covariance[k, j]
            for m in range(parts):
                total -= gains[k, m] * rows[m, j] + rows[m, k] * gains[j, m]
                for n in range(parts):
                    total += gains[k, m] * noise[m, n] * gains[j, n]
            covariance[k, j] = total
            covariance[j, k] = total
    return True
