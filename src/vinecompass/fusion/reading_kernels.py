"""Kernels of the fusion filter: what each kind of reading says of the state."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.fusion.filter_kernels import (
    FRESH,
    add_noise,
    correct,
)
from vinecompass.fusion.places import (
    AHEAD,
    ANTENNA_X,
    ANTENNA_Y,
    CREEP,
    CREEP_TURNED,
    CREEP_WAY,
    DOUBT_TIME,
    DOUBT_UNTIL,
    DURATION,
    FIRST,
    FIX_SPREAD,
    GATE,
    GYRO,
    GYRO_BIAS,
    GYRO_GAIN,
    GYRO_NOISE,
    GYRO_SCALE,
    HAS_PUSH,
    HEADING,
    IMU_HEADING,
    IMU_X,
    IMU_Y,
    LEFT,
    MATCH_COVARIANCE,
    MATCH_TURN_VARIANCE,
    NEW_REFERENCE,
    OUTRUN_FOR,
    OUTRUN_MOST,
    PACE,
    PUSH_BIAS_X,
    PUSH_BIAS_Y,
    PUSH_NOISE,
    PUSH_PERIOD,
    PUSH_T,
    PUSHED_X,
    PUSHED_Y,
    REFERENCE_HEADING,
    REFERENCE_IS_SCAN,
    REFERENCE_T,
    REFERENCE_X,
    REFERENCE_Y,
    ROLLED,
    SCAN_T,
    SCANS_ALIKE,
    SIDEWAYS,
    STAMP,
    STATES,
    STILL_FOR,
    STILL_SPREAD,
    STILL_TIME,
    TURN_RATE,
    TURN_SPREAD,
    WAY_AHEAD,
    WAY_LEFT,
    WAY_SPREAD,
    WAY_TURNED,
    WHEEL_GAIN,
    WHEEL_TURN,
    WHEEL_VEER,
    T,
    X,
    Y,
)
from vinecompass.geometry.kernels import principal_axes

# As arrays, since what takes tuples is compiled anew for each.
GYRO_SCALES, WHEEL_SCALES, NO_SCALES = (
    np.array(each) for each in ((GYRO_GAIN, GYRO_GAIN + 1), (WHEEL_GAIN, WHEEL_TURN + 1), (0, 0))
)
"""From where to where the parts of a state stand that are a sensor's own scales."""
UNSEEN_SLIP = 0.03
"""Metres a second by which slip may falsify the speed before it is noticed."""
SCAN_ITSELF, SCAN_ITSELF_TURN = 0.02, 0.003
"""Metres and radians that a reference scan is off itself, at most."""
PACE_TIME = 0.2
"""Seconds over which the pace of the rims is averaged: long beside a tick, short beside setting off."""
OUTRUNS, SURPRISE, SLIPPERY = 0.1, 0.5, 1.0
"""Metres a second by which a body goes faster than its wheels roll when it outruns them; seconds for which it may do so
in any case; and metres a second squared by which even a wet floor brakes what slides over it."""
REFERENCE_AGE, NO_SCANS = 0.5, 2.0
"""Seconds for which a reference holds, and those without a scan after which it need not be a scan's."""
STAMPED_ALIKE = 0.003
"""Seconds by which the stamps of scans and of other readings may differ: while the robot turns, scans seem turned."""
CONTRADICTS = 3.0
"""Standard deviations of a scan beyond which it contradicts the others."""
OVERRULES = 0.05
"""Metres that a scan may err, by its own account, to overrule others: what hangs on few points may be quite wrong."""
DIRECTION_OFF, KNOWN_ALONG = 0.1, 0.1
"""Radians by which the direction that a scan tells least may be off: some hundredths, but all scans along the same
walls err alike. And metres of way along it up to which that is less than the scan errs itself."""
BRISK = 0.3
"""Metres a second, and radians a second, by which the velocity may be wrong once scans contradict it."""


@njit(cache=True, nogil=True)
def take_imu(state, covariance, p, event, normalised):  # type: ignore[no-untyped-def]
    """Correct by a turn rate, and where the body cannot move sideways by the acceleration that turning gives it."""
    sideways = event[HAS_PUSH] != 0.0 and p[SIDEWAYS] == 0.0
    rows, residuals, noise = np.zeros((1, STATES)), np.zeros(1), np.zeros((1, 1))
    scale = p[GYRO_SCALE] * (1.0 + state[GYRO_GAIN])
    rows[0, TURN_RATE], rows[0, GYRO_BIAS], rows[0, GYRO_GAIN] = scale, 1.0, p[GYRO_SCALE] * state[TURN_RATE]
    residuals[0] = event[GYRO] - scale * state[TURN_RATE] - state[GYRO_BIAS]
    noise[0, 0] = p[GYRO_NOISE] ** 2
    taken = correct(state, covariance, rows, residuals, noise, p[GATE], normalised, False, GYRO_SCALES)
    if sideways and taken:
        cosine, sine = np.cos(p[IMU_HEADING]), np.sin(p[IMU_HEADING])
        # Sideways, in the body's frame: what the reading says, less what turning explains.
        left = (
            sine * (event[PUSHED_X] - state[PUSH_BIAS_X])
            + cosine * (event[PUSHED_Y] - state[PUSH_BIAS_Y])
            + state[TURN_RATE] ** 2 * p[IMU_Y]
        )
        for k in range(STATES):
            rows[0, k] = 0.0
        rows[0, AHEAD], rows[0, TURN_RATE] = state[TURN_RATE], state[AHEAD] - 2.0 * state[TURN_RATE] * p[IMU_Y]
        rows[0, PUSH_BIAS_X], rows[0, PUSH_BIAS_Y] = sine, cosine
        residuals[0] = left - state[TURN_RATE] * state[AHEAD]
        # What a change of turn rate does off the axle is not modelled here, only allowed for.
        noise[0, 0] = p[PUSH_NOISE] ** 2 + (p[IMU_X] * 1.5 * p[GYRO_NOISE] / p[PUSH_PERIOD]) ** 2 + 0.02**2
        # A reading that fails here is no gyro gone wrong: it is left out and not counted.
        correct(state, covariance, rows, residuals, noise, p[GATE], np.empty(2), False, NO_SCALES)
    return taken


@njit(cache=True, nogil=True)
def take_wheels(state, covariance, p, event, normalised):  # type: ignore[no-untyped-def]
    """Correct by the way that the wheels rolled since the reading before, unless they are not to be believed."""
    duration, rolled = event[DURATION], event[ROLLED]
    parts = 3 if p[SIDEWAYS] != 0.0 else 2
    state[STILL_FOR] = state[STILL_FOR] + duration if rolled == 0.0 else 0.0
    # Wheels that have stood still for a while stand still: a zero-velocity update, far surer than a tick. But the
    # first tick comes late, so as soon as anything else says that the robot sets off, that is over.
    sets_off = abs(state[AHEAD]) > 5.0 * p[STILL_SPREAD] or abs(state[TURN_RATE]) > 20.0 * p[STILL_SPREAD]
    still = state[STILL_FOR] >= p[STILL_TIME] and not sets_off
    # How far the rims roll, by the readings before: the errors of this one, and those of the way as predicted, which
    # are in the innovation, would lean on the estimate of the creep.
    rims = state[PACE] * duration if rolled > 0.0 else 0.0
    state[PACE] += (1.0 - np.exp(-duration / PACE_TIME)) * (rolled / max(duration, 1e-9) - state[PACE])
    rows, residuals, noise = np.zeros((parts, STATES)), np.empty(parts), np.zeros((parts, parts))
    for m in range(parts):
        part = m if parts == 3 else (0, 2)[m]
        rows[m, WAY_AHEAD + part] = 1.0
        residuals[m] = event[FIRST + part] - state[WAY_AHEAD + part]
        if part == 1:
            noise[m, m] = (rims * p[CREEP]) ** 2
        else:
            creep = CREEP_TURNED if part == 2 else CREEP_WAY
            gain = WHEEL_TURN if part == 2 else WHEEL_GAIN
            rows[m, creep] = rims
            rows[m, gain] = state[WAY_AHEAD + part]
            residuals[m] -= rims * state[creep] + state[WAY_AHEAD + part] * state[gain]
            if part == 2:
                rows[m, WHEEL_VEER] = state[WAY_AHEAD]
                residuals[m] -= state[WAY_AHEAD] * state[WHEEL_VEER]
        noise[m, m] += (
            (p[STILL_SPREAD] * duration) ** 2 if still else event[TURN_SPREAD if part == 2 else WAY_SPREAD] ** 2
        )
    if rolled > 0.0 and state[DOUBT_UNTIL] == np.inf:
        state[DOUBT_UNTIL] = event[STAMP] + p[DOUBT_TIME]
    doubted = event[STAMP] < state[DOUBT_UNTIL]
    limit = p[GATE + parts - 1]
    taken = True
    if duration > 0.0:  # The first reading only says where the wheels stand.
        allowed = -1.0 if doubted else limit
        taken = correct(state, covariance, rows, residuals, noise, allowed, normalised, False, WHEEL_SCALES)
    if normalised[0] > limit and state[DOUBT_UNTIL] != np.inf:
        if not doubted:
            # The slip began a little before it was seen, and has drawn the speed with it.
            covariance[AHEAD, AHEAD] += UNSEEN_SLIP**2
        state[DOUBT_UNTIL] = event[STAMP] + p[DOUBT_TIME]
        if outruns_too_long(state, duration):
            state[DOUBT_UNTIL] = event[STAMP]
            covariance[AHEAD, AHEAD] += state[OUTRUN_MOST] ** 2
            covariance[LEFT, LEFT] += p[SIDEWAYS] * state[OUTRUN_MOST] ** 2
    else:
        state[OUTRUN_FOR] = state[OUTRUN_MOST] = 0.0
    # From here on, the way to the next reading.
    for part in (WAY_AHEAD, WAY_LEFT, WAY_TURNED):
        state[part] = 0.0
        for k in range(STATES):
            covariance[part, k] = covariance[k, part] = 0.0
    if state[T] - state[REFERENCE_T] > REFERENCE_AGE and state[T] - state[SCAN_T] > NO_SCANS:
        begin_reference(state, covariance)
    return taken


@njit(cache=True, nogil=True)
def outruns_too_long(state, duration):  # type: ignore[no-untyped-def]
    """Whether the body has, as it is believed to go, outrun its wheels for longer than sliding lasts.

    Wheels may spin without end, but a body that slides over wheels that hardly roll is braked by the floor: then the
    speed is wrong, because the robot was caught or set down with no push that the accelerometer felt.
    """
    outrun = np.hypot(state[AHEAD], state[LEFT]) - state[PACE]
    if outrun <= OUTRUNS:
        state[OUTRUN_FOR] = state[OUTRUN_MOST] = 0.0
        return False
    state[OUTRUN_FOR] += duration
    state[OUTRUN_MOST] = max(state[OUTRUN_MOST], outrun)
    return state[OUTRUN_FOR] > SURPRISE + state[OUTRUN_MOST] / SLIPPERY


@njit(cache=True, nogil=True)
def begin_reference(state, covariance):  # type: ignore[no-untyped-def]
    """Let the pose be the reference."""
    state[REFERENCE_T] = state[T]
    state[REFERENCE_IS_SCAN] = 0.0
    for i in range(3):
        state[REFERENCE_X + i] = state[X + i]
        for k in range(STATES):
            covariance[REFERENCE_X + i, k] = covariance[X + i, k]
    for i in range(3):
        for k in range(STATES):
            covariance[k, REFERENCE_X + i] = covariance[k, X + i]


@njit(cache=True, nogil=True)
def scan_reading(state, p, event, rows, residuals, noise):  # type: ignore[no-untyped-def]
    """Fill in what a scan says: the pose seen from the pose at the reference scan."""
    c, s = np.cos(state[REFERENCE_HEADING]), np.sin(state[REFERENCE_HEADING])
    dx, dy = state[X] - state[REFERENCE_X], state[Y] - state[REFERENCE_Y]
    ahead, left = c * dx + s * dy, c * dy - s * dx
    for i in range(3):
        for j in range(STATES):
            rows[i, j] = 0.0
    rows[0, X], rows[0, Y], rows[0, REFERENCE_X], rows[0, REFERENCE_Y], rows[0, REFERENCE_HEADING] = c, s, -c, -s, left
    rows[1, X], rows[1, Y], rows[1, REFERENCE_X], rows[1, REFERENCE_Y], rows[1, REFERENCE_HEADING] = (
        -s,
        c,
        s,
        -c,
        -ahead,
    )
    rows[2, HEADING], rows[2, REFERENCE_HEADING] = 1.0, -1.0
    residuals[0], residuals[1] = event[FIRST] - ahead, event[FIRST + 1] - left
    turned = event[FIRST + 2] - (state[HEADING] - state[REFERENCE_HEADING])
    residuals[2] = turned - 2.0 * np.pi * np.round(turned / (2.0 * np.pi))
    k = MATCH_COVARIANCE
    for i in range(3):
        for j in range(i + 1):
            noise[i, j] = noise[j, i] = 0.5 * p[SCANS_ALIKE] * event[k]
            k += 1


@njit(cache=True, nogil=True)
def match_axes(event):  # type: ignore[no-untyped-def]
    """The heading of the direction that a scan tells least, and the variances of its match along and across it."""
    return principal_axes(event[MATCH_COVARIANCE], event[MATCH_COVARIANCE + 1], event[MATCH_COVARIANCE + 2])


@njit(cache=True, nogil=True)
def doubt_direction(covariance, event, rows, residuals, noise):  # type: ignore[no-untyped-def]
    """Doubt what a scan says across the direction that it tells least, by how far that direction may be off.

    Along it the robot may have gone farther than the scan was placed, by so much as the filter has it otherwise or does
    not know; were the direction taken to be exact, a thousandth of a radian would tell of a way that nobody saw.
    """
    angle, _, _ = match_axes(event)
    c, s = np.cos(angle), np.sin(angle)
    unknown = (c * residuals[0] + s * residuals[1]) ** 2
    for i in range(STATES):
        for j in range(STATES):
            unknown += (c * rows[0, i] + s * rows[1, i]) * covariance[i, j] * (c * rows[0, j] + s * rows[1, j])
    across = DIRECTION_OFF**2 * max(unknown - KNOWN_ALONG**2, 0.0)
    noise[0, 0] += across * s * s
    noise[1, 1] += across * c * c
    noise[0, 1] -= across * s * c
    noise[1, 0] -= across * s * c


@njit(cache=True, nogil=True)
def doubt_way(state, covariance, event, residuals):  # type: ignore[no-untyped-def]
    """Doubt the way since the reference scan by what a scan is off, where it is sure itself; return whether it is so.

    Along a plain aisle it cannot tell the way at all, and other sources that can are not to be given up for it.
    """
    doubted = False
    heading, along, across = match_axes(event)
    for angle, variance in ((heading, along), (heading + 0.5 * np.pi, across)):
        off = np.cos(angle) * residuals[0] + np.sin(angle) * residuals[1]
        if off**2 > CONTRADICTS**2 * variance and variance < OVERRULES**2:
            apart = np.zeros(STATES)
            apart[X] = off * np.cos(angle + state[REFERENCE_HEADING])
            apart[Y] = off * np.sin(angle + state[REFERENCE_HEADING])
            add_noise(covariance, apart, 1.0)
            doubted = True
    if residuals[2] ** 2 > CONTRADICTS**2 * event[MATCH_TURN_VARIANCE]:
        covariance[HEADING, HEADING] += residuals[2] ** 2
        doubted = True
    return doubted


@njit(cache=True, nogil=True)
def turn_variance(covariance):  # type: ignore[no-untyped-def]
    """The variance of how far the robot has turned since the reference."""
    return (
        covariance[HEADING, HEADING]
        - 2.0 * covariance[HEADING, REFERENCE_HEADING]
        + covariance[REFERENCE_HEADING, REFERENCE_HEADING]
    )


@njit(cache=True, nogil=True)
def tells_way(state, event):  # type: ignore[no-untyped-def]
    """Whether a scan shows how far the robot went ahead, and not only what is beside it."""
    turned = state[HEADING] - state[REFERENCE_HEADING]
    angle, along, across = match_axes(event)
    ahead = np.cos(turned - angle) ** 2
    return ahead * along + (1.0 - ahead) * across < OVERRULES**2


@njit(cache=True, nogil=True)
def take_scan(state, covariance, p, event, normalised):  # type: ignore[no-untyped-def]
    """Correct by the pose seen from the pose at the reference scan; then, if so, let this pose be the reference."""
    taken, turned, doubt = True, 0.0, 0.0
    state[SCAN_T] = event[STAMP]
    if event[MATCH_TURN_VARIANCE] > 0.0 and state[REFERENCE_IS_SCAN] != 0.0:
        rows, residuals, noise = np.empty((3, STATES)), np.empty(3), np.empty((3, 3))
        scan_reading(state, p, event, rows, residuals, noise)
        doubt_direction(covariance, event, rows, residuals, noise)
        off = (STAMPED_ALIKE * state[TURN_RATE]) ** 2
        noise[2, 2] += off
        share = off / (turn_variance(covariance) + noise[2, 2])
        turned, doubt = share * residuals[2], (1.0 - share) * off
        taken = correct(state, covariance, rows, residuals, noise, p[GATE + 2], normalised, False, NO_SCALES)
        out_voted = event[STAMP] < state[DOUBT_UNTIL]
        # No IMU to arbitrate: scans do not slip, so wheels did, or the robot moved more briskly than thought. Or there
        # is one, and wheels and scans both stand against it: a blow has carried the speed off.
        arbitrates = not out_voted and abs(state[T] - state[PUSH_T]) <= FRESH * p[PUSH_PERIOD]
        if not taken and not arbitrates and doubt_way(state, covariance, event, residuals):
            state[DOUBT_UNTIL] = event[STAMP] + p[DOUBT_TIME]
            covariance[AHEAD, AHEAD] += BRISK**2
            covariance[TURN_RATE, TURN_RATE] += BRISK**2
            scan_reading(state, p, event, rows, residuals, noise)
            taken = correct(state, covariance, rows, residuals, noise, np.inf, np.empty(2), False, NO_SCALES)
        if taken and tells_way(state, event):
            # It moves as it is believed to: then it is the wheels that are wrong, for as long as this goes on.
            state[OUTRUN_FOR] = state[OUTRUN_MOST] = 0.0
            moves = np.hypot(state[AHEAD], state[LEFT]) > OUTRUNS
            if state[STILL_FOR] > SURPRISE and moves and abs(state[T] - state[PUSH_T]) <= FRESH * p[PUSH_PERIOD]:
                # Wheels that stand against scans and an IMU count no more, or are off the floor: until they turn again.
                state[DOUBT_UNTIL] = np.inf
    if event[NEW_REFERENCE] > 0.0:
        begin_reference(state, covariance)
        state[REFERENCE_IS_SCAN] = 1.0
        # Of what this scan is turned by itself, all that are compared with it are turned the other way.
        state[REFERENCE_HEADING] += turned
        covariance[REFERENCE_HEADING, REFERENCE_HEADING] += doubt
        # Half of a match's noise is the reference scan's own, and the same for all scans compared with it.
        # Where the place is degenerate the match is unknown, but not the scan.
        own = 0.5 * min(match_axes(event)[2], SCAN_ITSELF**2)
        covariance[REFERENCE_X, REFERENCE_X] += own
        covariance[REFERENCE_Y, REFERENCE_Y] += own
        covariance[REFERENCE_HEADING, REFERENCE_HEADING] += 0.5 * min(event[MATCH_TURN_VARIANCE], SCAN_ITSELF_TURN**2)
    return taken


@njit(cache=True, nogil=True)
def take_position(state, covariance, p, event, normalised):  # type: ignore[no-untyped-def]
    """Correct by where the antenna was."""
    c, s = np.cos(state[HEADING]), np.sin(state[HEADING])
    arm_x, arm_y = c * p[ANTENNA_X] - s * p[ANTENNA_Y], s * p[ANTENNA_X] + c * p[ANTENNA_Y]
    rows, residuals, noise = np.zeros((2, STATES)), np.empty(2), np.zeros((2, 2))
    rows[0, X], rows[0, HEADING], rows[1, Y], rows[1, HEADING] = 1.0, -arm_y, 1.0, arm_x
    residuals[0], residuals[1] = event[FIRST] - state[X] - arm_x, event[FIRST + 1] - state[Y] - arm_y
    noise[0, 0] = noise[1, 1] = event[FIX_SPREAD] ** 2
    return correct(state, covariance, rows, residuals, noise, p[GATE + 1], normalised, True, NO_SCALES)
