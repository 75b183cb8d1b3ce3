"""Kernels of the fusion filter: an extended Kalman filter with a short memory that late readings are put back into.

The state has 17 parts with a covariance, and after them a memory without one; all have names below. An event is a
reading: its stamp, its kind, and up to 10 numbers. A log row holds an event, and the state and the covariance (17 x 17)
after it.
"""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.geometry.kernels import solve_in_place
from vinecompass.motion.kernels import along_chord

STATES = 17
(
    X,
    Y,
    HEADING,
    AHEAD,
    LEFT,
    TURN_RATE,
    GYRO_BIAS,
    PUSH_BIAS_X,
    PUSH_BIAS_Y,
    CREEP_WAY,
    CREEP_TURNED,
    REFERENCE_X,
    REFERENCE_Y,
    REFERENCE_HEADING,
    WAY_AHEAD,
    WAY_LEFT,
    WAY_TURNED,
) = range(STATES)
"""The parts of a state: the pose; speeds ahead and to the left, turn rate; biases of gyro and accelerations; creep of
the wheels, a share of their rolling, ahead and in turning; the pose when the reference scan was taken; and the way
since the last wheel reading."""
T, GYRO_T, PUSH_T, PUSH_X, PUSH_Y, STILL_FOR, DOUBT_UNTIL = range(17, 24)
MEMORY = 24
"""Length of a state. Its memory: time; stamp of the last turn rate read; last acceleration (its stamp, ahead, left);
for how long the wheels have stood still; and until when they are not believed."""
EVENT = 12
ROW = EVENT + MEMORY + STATES * STATES

IMU, WHEELS, ODOMETRY, SCAN, POSITION = range(5)
"""Kinds of events, with their numbers from `FIRST` on:
turn rate, acceleration ahead, to the left; whether there are accelerations;
way since the reading before, ahead, left, turned; for how long; mean way of a rim; standard deviations of way and turn;
the same of an odometry that someone else keeps;
pose since the reference scan (3), covariance (6, lower triangle), and 1 if a new reference begins;
x, y, standard deviation."""
STAMP, KIND, FIRST = range(3)
GYRO, PUSHED_X, PUSHED_Y, HAS_PUSH = range(FIRST, FIRST + 4)
DURATION, ROLLED, WAY_SPREAD, TURN_SPREAD = range(FIRST + 3, FIRST + 7)
MATCH_COVARIANCE, MATCH_TURN_VARIANCE, NEW_REFERENCE = FIRST + 3, FIRST + 8, FIRST + 9
FIX_SPREAD = FIRST + 2
"""Where the numbers of an event stand, after its stamp and its kind: an IMU's, those of wheels and odometry besides the
way itself, a scan's besides the pose, and a fix's besides x and y."""

(
    SIDEWAYS,
    SPEED_CHANGE,
    TURN_RATE_CHANGE,
    GYRO_CHANGE,
    PUSH_NOISE,
    GYRO_NOISE,
    GYRO_SCALE,
    GYRO_WALK,
    PUSH_WALK,
    CREEP,
    CREEP_TURN,
    CREEP_TIME,
    CREEP_ARM,
    STILL_TIME,
    STILL_SPREAD,
    DOUBT_TIME,
    IMU_X,
    IMU_Y,
    IMU_HEADING,
    PUSH_PERIOD,
    ANTENNA_X,
    ANTENNA_Y,
    GATE,
    _GATE_2,
    _GATE_3,
) = range(25)
"""Where the parameters stand; the gates are those of readings of one, two and three parts."""
PARAMETERS = 25

TAKEN, LATE, GATED = 0, 1, 2
MOMENT = 1e-6
"""Seconds within which two stamps are of one moment."""
UNSEEN_SLIP = 0.03
"""Metres a second by which slip may falsify the speed before it is noticed."""
FRESH = 2.5
"""Periods of an IMU for which its last reading holds."""
SCAN_ITSELF, SCAN_ITSELF_TURN = 0.02, 0.003
"""Metres and radians that a reference scan is off itself, at most."""
BRISK = 0.3
"""Metres a second, and radians a second, by which the velocity may be wrong once scans contradict it."""


@njit(cache=True, nogil=True)
def couple(covariance, part, other, factor):  # type: ignore[no-untyped-def]
    """Let a part of the state gain `factor` times another."""
    for k in range(STATES):
        covariance[part, k] += factor * covariance[other, k]
    for k in range(STATES):
        covariance[k, part] += factor * covariance[k, other]


@njit(cache=True, nogil=True)
def add_noise(covariance, gains, variance):  # type: ignore[no-untyped-def]
    """Add noise of a variance that reaches each part of the state by `gains` (17,)."""
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
    """Return the normalised innovation squared of a reading; `gains` (17, M) becomes its Kalman gain.

    `rows` (M, 17) is the reading's Jacobian, `noise` (M, M) its covariance; `noise` is used up.
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
def correct(state, covariance, rows, residuals, noise, limit, normalised):  # type: ignore[no-untyped-def]
    """Correct the state by a reading unless its normalised innovation squared is beyond `limit`; return whether it was.

    `normalised` (2,) gains the innovation squared and the number of its parts.
    """
    parts = residuals.shape[0]
    gains = np.empty((STATES, parts))
    squared = innovation_squared(covariance, rows, residuals, noise, gains)
    normalised[0], normalised[1] = squared, parts
    if not squared <= limit:
        return False
    for k in range(STATES):
        for m in range(parts):
            state[k] += gains[k, m] * residuals[m]
    for k in range(STATES):
        for j in range(k + 1):
            total = covariance[k, j]
            for m in range(parts):
                total -= gains[k, m] * rows[m, j]
            covariance[k, j] = total
            covariance[j, k] = total
    return True


@njit(cache=True, nogil=True)
def take_imu(state, covariance, p, event, normalised):  # type: ignore[no-untyped-def]
    """Correct by a turn rate, and where the body cannot move sideways by the acceleration that turning gives it."""
    sideways = event[HAS_PUSH] != 0.0 and p[SIDEWAYS] == 0.0
    rows, residuals, noise = np.zeros((1, STATES)), np.zeros(1), np.zeros((1, 1))
    rows[0, TURN_RATE], rows[0, GYRO_BIAS] = p[GYRO_SCALE], 1.0
    residuals[0] = event[GYRO] - p[GYRO_SCALE] * state[TURN_RATE] - state[GYRO_BIAS]
    noise[0, 0] = p[GYRO_NOISE] ** 2
    taken = correct(state, covariance, rows, residuals, noise, p[GATE], normalised)
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
        correct(state, covariance, rows, residuals, noise, p[GATE], np.empty(2))
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
    # How far the rims rolled, as predicted: the reading's own errors would lean on the estimate of the creep.
    rims = max(np.hypot(state[WAY_AHEAD], state[WAY_LEFT]), abs(state[WAY_TURNED]) * p[CREEP_ARM])
    rows, residuals, noise = np.zeros((parts, STATES)), np.empty(parts), np.zeros((parts, parts))
    for m in range(parts):
        part = m if parts == 3 else (0, 2)[m]
        rows[m, WAY_AHEAD + part] = 1.0
        residuals[m] = event[FIRST + part] - state[WAY_AHEAD + part]
        if part == 1:
            noise[m, m] = (rims * p[CREEP]) ** 2
        else:
            creep = CREEP_TURNED if part == 2 else CREEP_WAY
            rows[m, creep] = rims
            residuals[m] -= rims * state[creep]
        noise[m, m] += (
            (p[STILL_SPREAD] * duration) ** 2 if still else event[TURN_SPREAD if part == 2 else WAY_SPREAD] ** 2
        )
    doubted = event[STAMP] < state[DOUBT_UNTIL]
    limit = p[GATE + parts - 1]
    taken = True
    if duration > 0.0:  # The first reading only says where the wheels stand.
        taken = correct(state, covariance, rows, residuals, noise, -1.0 if doubted else limit, normalised)
    if normalised[0] > limit:
        if not doubted:
            # The slip began a little before it was seen, and has drawn the speed with it.
            covariance[AHEAD, AHEAD] += UNSEEN_SLIP**2
        state[DOUBT_UNTIL] = event[STAMP] + p[DOUBT_TIME]
    # From here on, the way to the next reading.
    for part in (WAY_AHEAD, WAY_LEFT, WAY_TURNED):
        state[part] = 0.0
        for k in range(STATES):
            covariance[part, k] = covariance[k, part] = 0.0
    return taken


@njit(cache=True, nogil=True)
def scan_reading(state, event, rows, residuals, noise):  # type: ignore[no-untyped-def]
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
            noise[i, j] = noise[j, i] = 0.5 * event[k]
            k += 1


@njit(cache=True, nogil=True)
def take_scan(state, covariance, p, event, normalised):  # type: ignore[no-untyped-def]
    """Correct by the pose seen from the pose at the reference scan; then, if so, let this pose be the reference."""
    taken = True
    if event[MATCH_TURN_VARIANCE] > 0.0:
        rows, residuals, noise = np.empty((3, STATES)), np.empty(3), np.empty((3, 3))
        scan_reading(state, event, rows, residuals, noise)
        taken = correct(state, covariance, rows, residuals, noise, p[GATE + 2], normalised)
        if not taken and abs(state[T] - state[PUSH_T]) > FRESH * p[PUSH_PERIOD]:
            # No IMU to arbitrate: scans do not slip, so wheels did, or the robot moved more briskly than thought.
            # Doubt the way since the last scan as far as the two are apart, and believe the scan.
            state[DOUBT_UNTIL] = event[STAMP] + p[DOUBT_TIME]
            c, s = np.cos(state[REFERENCE_HEADING]), np.sin(state[REFERENCE_HEADING])
            apart = np.zeros(STATES)
            apart[X] = c * residuals[0] - s * residuals[1]
            apart[Y] = s * residuals[0] + c * residuals[1]
            apart[HEADING] = residuals[2]
            add_noise(covariance, apart, 1.0)
            covariance[AHEAD, AHEAD] += BRISK**2
            covariance[TURN_RATE, TURN_RATE] += BRISK**2
            scan_reading(state, event, rows, residuals, noise)
            taken = correct(state, covariance, rows, residuals, noise, np.inf, np.empty(2))
    if event[NEW_REFERENCE] > 0.0:
        for i in range(3):
            state[REFERENCE_X + i] = state[X + i]
            for k in range(STATES):
                covariance[REFERENCE_X + i, k] = covariance[X + i, k]
        for i in range(3):
            for k in range(STATES):
                covariance[k, REFERENCE_X + i] = covariance[k, X + i]
        # Half of a match's noise is the reference scan's own, and the same for all scans compared with it.
        # Where the place is degenerate the match is unknown, but not the scan.
        own = 0.5 * min(event[MATCH_COVARIANCE], event[MATCH_COVARIANCE + 2], SCAN_ITSELF**2)
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
    return correct(state, covariance, rows, residuals, noise, p[GATE + 1], normalised)


@njit(cache=True, nogil=True)
def apply(state, covariance, p, event, normalised):  # type: ignore[no-untyped-def]
    """Carry the state to an event and correct it; return whether the reading was taken."""
    kind = int(event[KIND])
    if kind == IMU:
        state[GYRO_T] = event[STAMP]
    if kind == IMU and event[HAS_PUSH] != 0.0:
        # It is the mean since the reading before, so it drives the way up to its stamp.
        state[PUSH_T], state[PUSH_X], state[PUSH_Y] = event[STAMP], event[PUSHED_X], event[PUSHED_Y]
    while event[STAMP] - state[T] > 1e-9:
        # Short steps, but not without end where nothing came for hours.
        predict(state, covariance, p, min(event[STAMP] - state[T], max(0.05, 0.01 * (event[STAMP] - state[T]))))
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
