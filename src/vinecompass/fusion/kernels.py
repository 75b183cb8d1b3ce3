"""Kernels of the fusion filter: an extended Kalman filter with a short memory that late readings are put back into."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.fusion.filter_kernels import add_noise, predict
from vinecompass.fusion.places import (
    AHEAD,
    DURATION,
    EVENT,
    FIRST,
    GYRO_T,
    HAS_PUSH,
    HEADING,
    IMU,
    KIND,
    MEMORY,
    ODOMETRY,
    PUSH_T,
    PUSH_X,
    PUSH_Y,
    PUSHED_X,
    PUSHED_Y,
    SCAN,
    STAMP,
    STATES,
    WHEELS,
    T,
    X,
    Y,
)
from vinecompass.fusion.reading_kernels import take_imu, take_position, take_scan, take_wheels

TAKEN, LATE, GATED = 0, 1, 2
LONG_PAUSE = 0.25
"""Seconds between readings over which a robot may well have turned and driven on."""
MOMENT = 1e-6
"""Seconds within which two stamps are of one moment."""


@njit(cache=True, nogil=True)
def doubt_arc(state, covariance, event):  # type: ignore[no-untyped-def]
    """Doubt where an arc ended that was driven unseen: the same turn may have been made at once, early or late."""
    half = 0.5 * event[FIRST + 2]
    aside = np.hypot(event[FIRST], event[FIRST + 1]) * np.sin(half)
    chord = state[HEADING] - half + np.arctan2(event[FIRST + 1], event[FIRST])
    gains = np.zeros(STATES)
    gains[X], gains[Y] = -np.sin(chord), np.cos(chord)
    add_noise(covariance, gains, aside**2 / 3.0)


@njit(cache=True, nogil=True)
def apply(state, covariance, p, event, normalised):  # type: ignore[no-untyped-def]
    """Carry the state to an event and correct it; return whether the reading was taken."""
    kind = int(event[KIND])
    if kind == IMU:
        state[GYRO_T] = event[STAMP]
    if kind == IMU and event[HAS_PUSH] != 0.0:
        # It is the mean since the reading before, so it drives the way up to its stamp.
        state[PUSH_T], state[PUSH_X], state[PUSH_Y] = event[STAMP], event[PUSHED_X], event[PUSHED_Y]
    paused = kind in (WHEELS, ODOMETRY) and event[DURATION] > LONG_PAUSE and event[STAMP] - state[T] > LONG_PAUSE
    if paused:
        # Nothing else came meanwhile: the mean motion leads, as the one before would lead to where nobody was.
        for part in range(3):
            state[AHEAD + part] = event[FIRST + part] / event[DURATION]
    while event[STAMP] - state[T] > 1e-9:
        # Short steps, but not without end where nothing came for hours.
        predict(state, covariance, p, min(event[STAMP] - state[T], max(0.05, 0.01 * (event[STAMP] - state[T]))))
    if paused:
        doubt_arc(state, covariance, event)
    if kind == IMU:
        return take_imu(state, covariance, p, event, normalised)
    if kind in (WHEELS, ODOMETRY):
        return take_wheels(state, covariance, p, event, normalised)
    if kind == SCAN:
        return take_scan(state, covariance, p, event, normalised)
    return take_position(state, covariance, p, event, normalised)


@njit(cache=True, nogil=True)
def copy_row(log, source, target, begin):  # type: ignore[no-untyped-def]
    """Copy a row of the log from column `begin` on."""
    for i in range(begin, log.shape[1]):
        log[target, i] = log[source, i]


@njit(cache=True, nogil=True)
def push(log, filled, p, event, tally):  # type: ignore[no-untyped-def]
    """Take an event into the log at its place in time, and carry everything after it forward again.

    `log` (C, ROW), of which `filled` rows are in use, the first being a state without an event. `tally` (5, 4) counts
    for each kind the readings taken, those gated, and sums normalised innovations squared and their parts.
    Returns how many rows are in use, and TAKEN, GATED, or LATE if the event is older than the log.
    """
    if event[STAMP] < log[0, EVENT + T] - 1e-9:
        return filled, LATE
    capacity = log.shape[0]
    if filled == capacity:
        kept = capacity // 2
        for row in range(kept):
            copy_row(log, capacity - kept + row, row, 0)
        filled = kept
        if event[STAMP] < log[0, EVENT + T] - 1e-9:
            return filled, LATE
    # Readings of one moment stand in the order of their kinds, however they came in.
    place = filled
    while place > 1 and (
        log[place - 1, STAMP] > event[STAMP] + MOMENT
        or (log[place - 1, STAMP] > event[STAMP] - MOMENT and log[place - 1, KIND] > event[KIND])
    ):
        copy_row(log, place - 1, place, 0)
        place -= 1
    for i in range(EVENT):
        log[place, i] = event[i]
    normalised = np.zeros(2)
    status = TAKEN
    for row in range(place, filled + 1):
        copy_row(log, row - 1, row, EVENT)
        state = log[row, EVENT : EVENT + MEMORY]
        covariance = log[row, EVENT + MEMORY :].reshape(STATES, STATES)
        normalised[0] = normalised[1] = 0.0
        taken = apply(state, covariance, p, log[row, :EVENT], normalised)
        if row == place:
            kind = int(event[KIND])
            status = TAKEN if taken else GATED
            tally[kind, 0 if taken else 1] += 1.0
            if taken:
                tally[kind, 2] += normalised[0]
                tally[kind, 3] += normalised[1]
    return filled + 1, status
