"""Kernels of the time-optimal band: residuals with their derivatives, term by term, and the normal equations."""

from __future__ import annotations

from typing import NamedTuple

import numpy as np
from numba import njit
from numpy.typing import NDArray

from vinecompass.contact.cell_kernels import gap_between
from vinecompass.contact.kernels import gap_to_segment
from vinecompass.following.band.equation_kernels import add_row, solve_band
from vinecompass.geometry.kernels import write_row
from vinecompass.motion.kernels import along_chord

TIME, SLIP, SPEED, CHANGE, RADIUS, OBSTACLE, GAP = range(7)
"""The terms of the cost, by their place."""
UNKNOWNS = 4
"""Unknowns of an interval: its time, and x, y and heading of the pose after it."""
PLACES = 7
"""What a speed on an interval depends on: the pose before it (3), the pose after it (3), and its time."""
FARTHEST_MOVE = 0.3
"""Metres and radians that a pose is moved at most in one step of the optimisation."""
SHORTENED_TO, LENGTHENED_TO = 0.3, 3.0
"""Times that an interval's duration becomes at least and at most in one step."""


class Interval(NamedTuple):
    """How a band moves on one interval.

    Parameters
    ----------
    speed, turn_rate : float
    way, aside : float
        Of its chord, along the mean heading and across it.
    cosine, sine : float
        Of the mean heading.
    duration, turn : float
    by_speed, by_turn : array, (7,)
        Derivatives of speed and turn rate by its `PLACES`.
    columns : array, (7,)
        Which unknowns those are; -1 for what is given: the first pose, and the last.
    """

    speed: float
    turn_rate: float
    way: float
    aside: float
    cosine: float
    sine: float
    duration: float
    turn: float
    by_speed: NDArray[np.float64]
    by_turn: NDArray[np.float64]
    columns: NDArray[np.int64]


@njit(cache=True, nogil=True)
def interval(poses, times, i):  # type: ignore[no-untyped-def]
    """Describe how a band of poses (N + 1, 3) and times (N,) moves on its interval `i`; see `Interval`."""
    last = times.shape[0] - 1
    duration, turn = times[i], poses[i + 1, 2] - poses[i, 2]
    dx, dy = poses[i + 1, 0] - poses[i, 0], poses[i + 1, 1] - poses[i, 1]
    middle = poses[i, 2] + 0.5 * turn
    cosine, sine = np.cos(middle), np.sin(middle)
    way, aside = dx * cosine + dy * sine, dy * cosine - dx * sine
    speed, turn_rate = way / duration, turn / duration
    columns = np.full(PLACES, -1, np.int64)
    for a in range(3):
        if i > 0:
            columns[a] = UNKNOWNS * (i - 1) + 1 + a
        if i < last:
            columns[3 + a] = UNKNOWNS * i + 1 + a
    columns[6] = UNKNOWNS * i
    by_speed, by_turn = np.zeros(PLACES), np.zeros(PLACES)
    by_speed[0], by_speed[1], by_speed[2] = -cosine / duration, -sine / duration, 0.5 * aside / duration
    by_speed[3], by_speed[4], by_speed[5] = cosine / duration, sine / duration, 0.5 * aside / duration
    by_speed[6] = -speed / duration
    by_turn[2], by_turn[5], by_turn[6] = -1.0 / duration, 1.0 / duration, -turn_rate / duration
    return Interval(speed, turn_rate, way, aside, cosine, sine, duration, turn, by_speed, by_turn, columns)


@njit(cache=True, nogil=True)
def add_time_and_slip(equations, weights, now):  # type: ignore[no-untyped-def]
    """Charge for the time, and for slipping sideways: the chord of an arc lies along the mean heading."""
    values = np.empty(6)
    equations.costs[TIME] += weights[TIME] * now.duration * now.duration
    values[0] = 1.0
    add_row(equations, now.columns[6:], values, 1, now.duration, weights[TIME])
    equations.costs[SLIP] += weights[SLIP] * now.aside * now.aside
    values[0], values[1], values[2] = now.sine, -now.cosine, -0.5 * now.way
    values[3], values[4], values[5] = -now.sine, now.cosine, -0.5 * now.way
    add_row(equations, now.columns, values, 6, now.aside, weights[SLIP])


@njit(cache=True, nogil=True)
def fastest_rim(limits, speed, turn_rate):  # type: ignore[no-untyped-def]
    """How fast the fastest wheel's rim goes, and by how much faster for each m/s ahead and each rad/s.

    Of wheels as fast the one that turning speeds up counts; straight on, where none is, their mean.
    """
    fastest, quickened, by_speed, by_turn, alike = -1.0, 0.0, 0.0, 0.0, 0
    for wheel in range(limits.rolling.shape[0]):
        ahead, turning = limits.rolling[wheel, 0], limits.rolling[wheel, 2]
        rolling = ahead * speed + turning * turn_rate
        rim, by_wheel = abs(rolling), np.sign(rolling) * turning * turn_rate
        if rim < fastest or (rim == fastest and by_wheel < quickened):
            continue
        if rim > fastest or by_wheel > quickened:
            fastest, quickened, by_speed, by_turn, alike = rim, by_wheel, 0.0, 0.0, 0
        by_speed += np.sign(rolling) * ahead
        by_turn += np.sign(rolling) * turning
        alike += 1
    return fastest, by_speed / alike, by_turn / alike


@njit(cache=True, nogil=True)
def add_excess(equations, weight, now, excess, on_speed, on_turn):  # type: ignore[no-untyped-def]
    """Charge for what a speed exceeds a limit by; it grows by so much for each m/s ahead and each rad/s of turning."""
    if excess <= 0.0:
        return
    equations.costs[SPEED] += weight * excess * excess
    values = np.empty(PLACES)
    for a in range(PLACES):
        values[a] = on_speed * now.by_speed[a] + on_turn * now.by_turn[a]
    add_row(equations, now.columns, values, PLACES, excess, weight)


@njit(cache=True, nogil=True)
def add_speeds(equations, weight, limits, now):  # type: ignore[no-untyped-def]
    """Charge for speeds above the limits: ahead, in reverse, turning, and the fastest wheel's rim."""
    rim, rim_by_speed, rim_by_turn = fastest_rim(limits, now.speed, now.turn_rate)
    add_excess(equations, weight, now, now.speed - limits.top_speed, 1.0, 0.0)
    add_excess(equations, weight, now, -now.speed - limits.reverse_speed, -1.0, 0.0)
    add_excess(equations, weight, now, abs(now.turn_rate) - limits.top_turn_rate, 0.0, np.sign(now.turn_rate))
    add_excess(equations, weight, now, rim - limits.top_rim_speed, rim_by_speed, rim_by_turn)


@njit(cache=True, nogil=True)
def add_radius(equations, weights, limits, now):  # type: ignore[no-untyped-def]
    """Charge for turning more tightly than a drive can that does not turn on the spot."""
    excess = limits.turning_radius * abs(now.turn) - abs(now.way)
    if limits.turning_radius <= 0.0 or excess <= 0.0:
        return
    values = np.empty(6)
    equations.costs[RADIUS] += weights[RADIUS] * excess * excess
    for a in range(6):
        by_turn = limits.turning_radius * np.sign(now.turn) * now.by_turn[a]
        values[a] = now.duration * (by_turn - np.sign(now.way) * now.by_speed[a])
    add_row(equations, now.columns, values, 6, excess, weights[RADIUS])


@njit(cache=True, nogil=True)
def add_change(equations, weight, before, now, i, change, limit, turning, between):  # type: ignore[no-untyped-def]
    """Charge for an acceleration beyond a limit, of the speed or of the turn rate: from interval `i - 1` to `i`.

    `before` is None for the first interval, which begins with what the robot does now.
    """
    excess = abs(change) - limit
    if excess <= 0.0:
        return
    equations.costs[CHANGE] += weight * excess * excess
    direction, longer = np.sign(change) / between, np.sign(change) * change * 0.5 / between
    # By: pose i - 1 (3), pose i (3), pose i + 1 (3), time i - 1, time i.
    columns, values = np.full(11, -1, np.int64), np.zeros(11)
    by_now = now.by_turn if turning else now.by_speed
    for a in range(3):
        columns[3 + a], columns[6 + a] = now.columns[a], now.columns[3 + a]
        values[3 + a] += direction * by_now[a]
        values[6 + a] += direction * by_now[3 + a]
    columns[10] = now.columns[6]
    values[10] += direction * by_now[6] - longer
    if i > 0:
        by_before = before.by_turn if turning else before.by_speed
        for a in range(3):
            columns[a] = before.columns[a]
            values[a] -= direction * by_before[a]
            values[3 + a] -= direction * by_before[3 + a]
        columns[9] = before.columns[6]
        values[9] -= direction * by_before[6] + longer
    add_row(equations, columns, values, 11, excess, weight)


@njit(cache=True, nogil=True)
def add_stand(equations, weight, now, change, limit, turning, between):  # type: ignore[no-untyped-def]
    """Charge for braking to a stand at the end more than a limit, of the speed or of the turn rate."""
    excess = abs(change) - limit
    if excess <= 0.0:
        return
    equations.costs[CHANGE] += weight * excess * excess
    values = np.empty(PLACES)
    by_now = now.by_turn if turning else now.by_speed
    for a in range(PLACES):
        values[a] = -np.sign(change) / between * by_now[a]
    values[6] -= np.sign(change) * change * 0.5 / between
    add_row(equations, now.columns, values, PLACES, excess, weight)


@njit(cache=True, nogil=True)
def add_accelerations(equations, problem, before, now, i, last):  # type: ignore[no-untyped-def]
    """Charge for accelerations from the interval before, or from what the robot does now; and to a stand at the end."""
    limits, weight = problem.limits, problem.weights[CHANGE]
    between = 0.5 * (before.duration + now.duration) if i > 0 else 0.5 * now.duration
    speed, turn_rate = (before.speed, before.turn_rate) if i > 0 else (problem.speed, problem.turn_rate)
    change = (now.speed - speed) / between
    moving = now.speed if abs(now.speed) > abs(speed) else speed
    limit = limits.acceleration if change * moving > 0.0 else limits.braking
    add_change(equations, weight, before, now, i, change, limit, False, between)
    change = (now.turn_rate - turn_rate) / between
    add_change(equations, weight, before, now, i, change, limits.turn_acceleration, True, between)
    if last and not problem.ends_at_speed:
        between = 0.5 * now.duration
        add_stand(equations, weight, now, -now.speed / between, limits.braking, False, between)
        add_stand(equations, weight, now, -now.turn_rate / between, limits.turn_acceleration, True, between)


@njit(cache=True, nogil=True)
def add_floor(equations, problem, pose, columns):  # type: ignore[no-untyped-def]
    """Charge for the gap that the body's discs lack to forbidden floor at a pose (3,)."""
    body, weight = problem.body, problem.weights[GAP]
    cosine, sine = np.cos(pose[2]), np.sin(pose[2])
    values = np.empty(3)
    for d in range(body.discs.shape[0]):
        ox, oy = along_chord(cosine, sine, body.discs[d, 0], body.discs[d, 1])
        gap, by_x, by_y = gap_between(problem.cells, pose[0] + ox, pose[1] + oy)
        lack = problem.spare_to_floor + body.disc_radius - gap
        if lack > 0.0:
            equations.costs[GAP] += weight * lack * lack
            values[0], values[1], values[2] = -by_x, -by_y, -(by_y * ox - by_x * oy)
            add_row(equations, columns, values, 3, lack, weight)


@njit(cache=True, nogil=True)
def add_obstacles(equations, problem, pose, elapsed, columns):  # type: ignore[no-untyped-def]
    """Charge for the gap that the body lacks to obstacles at a pose (3,), each where it is after so many seconds."""
    body, weight, spare = problem.body, problem.weights[OBSTACLE], problem.spare_to_obstacles
    x, y = pose[0], pose[1]
    cosine, sine = np.cos(pose[2]), np.sin(pose[2])
    values = np.empty(3)
    for s in range(problem.segments.shape[0]):
        ax, ay, bx, by, velocity_x, velocity_y, radius = problem.segments[s]
        vx, vy = velocity_x * elapsed, velocity_y * elapsed
        # What lies farther off than the body reaches needs no look.
        far = max(max(min(ax, bx) + vx - x, x - max(ax, bx) - vx), max(min(ay, by) + vy - y, y - max(ay, by) - vy))
        if far > body.outer_radius + spare + radius:
            continue
        gap, by_x, by_y, by_heading = gap_to_segment(
            body.outline, x, y, cosine, sine, ax + vx, ay + vy, bx + vx, by + vy
        )
        lack = spare + radius - gap
        if lack > 0.0:
            equations.costs[OBSTACLE] += weight * lack * lack
            values[0], values[1], values[2] = -by_x, -by_y, -by_heading
            add_row(equations, columns, values, 3, lack, weight)


@njit(cache=True, nogil=True)
def gather(problem, poses, times, equations):  # type: ignore[no-untyped-def]
    """Sum up the cost of a band by its terms, and its normal equations unless they have no room.

    Parameters
    ----------
    problem : `BandProblem`
    poses : (N + 1, 3), headings unwrapped
    times : (N,)
    equations : `Equations`, filled in. Unknowns come in blocks of four: the time of an interval, and the pose after it.
    """
    equations.costs[:] = 0.0
    equations.matrix[:] = 0.0
    equations.right[:] = 0.0
    elapsed, last = 0.0, times.shape[0] - 1
    before = interval(poses, times, 0)
    for i in range(times.shape[0]):
        now = interval(poses, times, i)
        add_time_and_slip(equations, problem.weights, now)
        add_speeds(equations, problem.weights[SPEED], problem.limits, now)
        add_radius(equations, problem.weights, problem.limits, now)
        add_accelerations(equations, problem, before, now, i, i == last)
        before = now
        elapsed += times[i]
        if i < last:
            add_floor(equations, problem, poses[i + 1], now.columns[3:6])
            add_obstacles(equations, problem, poses[i + 1], elapsed, now.columns[3:6])


@njit(cache=True, nogil=True)
def try_step(poses, times, step, trial_poses, trial_times):  # type: ignore[no-untyped-def]
    """Take a step (4 N,) of the unknowns into a trial, no part of it too far; return how far a pose moves at most."""
    largest = 0.0
    for i in range(times.shape[0]):
        trial_times[i] = min(max(times[i] + step[UNKNOWNS * i], SHORTENED_TO * times[i]), LENGTHENED_TO * times[i])
        if i < times.shape[0] - 1:
            for a in range(3):
                move = min(max(step[UNKNOWNS * i + 1 + a], -FARTHEST_MOVE), FARTHEST_MOVE)
                trial_poses[i + 1, a] = poses[i + 1, a] + move
                largest = max(largest, abs(move))
    return largest


@njit(cache=True, nogil=True)
def optimise(problem, poses, times, equations, costs_only, iterations):  # type: ignore[no-untyped-def]
    """Improve a band in place by Levenberg and Marquardt's method; `equations` hold what its terms then cost.

    `costs_only` are `Equations` without room for a matrix.
    """
    unknowns = UNKNOWNS * times.shape[0]
    damping = 1e-2
    gather(problem, poses, times, equations)
    cost = equations.costs.sum()
    trial_poses, trial_times = poses.copy(), times.copy()
    for _ in range(iterations):
        system, step = equations.matrix.copy(), equations.right.copy()
        for i in range(unknowns):
            system[i, 0] += damping * (1.0 + system[i, 0])
        # The last pose is given: its unknowns stay where they are.
        for a in range(1, UNKNOWNS):
            system[unknowns - UNKNOWNS + a, 0] = 1.0
        if not solve_band(system, step):
            damping *= 10.0
            continue
        largest = try_step(poses, times, step, trial_poses, trial_times)
        gather(problem, trial_poses, trial_times, costs_only)
        gain = cost - costs_only.costs.sum()
        if gain > 0.0:
            for i in range(times.shape[0]):
                times[i] = trial_times[i]
                write_row(poses, i + 1, trial_poses[i + 1])
            damping = max(0.2 * damping, 1e-7)
            gather(problem, poses, times, equations)
            cost = equations.costs.sum()
            if gain < 1e-4 * cost and largest < 1e-3:
                break
        else:
            damping *= 5.0
            if damping > 1e6:
                break
    return cost
