"""Kernels of the time-optimal band: residuals with their derivatives, term by term, and the normal equations.

What charges for a term adds its rows to the normal equations, and returns what it costs.
"""

from __future__ import annotations

import numpy as np
from numba import njit

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


@njit(cache=True, nogil=True)
def chord(poses, i):  # type: ignore[no-untyped-def]
    """How poses (N + 1, 3) move on interval `i`: ahead and aside of the mean heading, its cosine and sine, the turn."""
    dx, dy = poses[i + 1, 0] - poses[i, 0], poses[i + 1, 1] - poses[i, 1]
    turn = poses[i + 1, 2] - poses[i, 2]
    middle = poses[i, 2] + 0.5 * turn
    cosine, sine = np.cos(middle), np.sin(middle)
    return dx * cosine + dy * sine, dy * cosine - dx * sine, cosine, sine, turn


@njit(cache=True, nogil=True)
def fill_columns(columns, now, i, last):  # type: ignore[no-untyped-def]
    """Write which unknowns interval `i` depends on, by `PLACES`; -1 for what is given: the first pose, and the last."""
    for a in range(3):
        columns[now, a] = UNKNOWNS * (i - 1) + 1 + a if i > 0 else -1
        columns[now, 3 + a] = UNKNOWNS * i + 1 + a if i < last else -1
    columns[now, 6] = UNKNOWNS * i


@njit(cache=True, nogil=True)
def fill_slopes(by_speed, by_turn, now, moved, duration):  # type: ignore[no-untyped-def]
    """Write the derivatives of an interval's speed and turn rate by its `PLACES`. `moved` is its `chord`."""
    way, aside, cosine, sine, turn = moved
    by_speed[now, 0], by_speed[now, 1] = -cosine / duration, -sine / duration
    by_speed[now, 3], by_speed[now, 4] = cosine / duration, sine / duration
    by_speed[now, 2] = by_speed[now, 5] = 0.5 * aside / duration
    by_speed[now, 6] = -way / duration / duration
    for a in range(PLACES):
        by_turn[now, a] = 0.0
    by_turn[now, 2], by_turn[now, 5], by_turn[now, 6] = -1.0 / duration, 1.0 / duration, -turn / duration / duration


@njit(cache=True, nogil=True)
def add_time(matrix, right, columns, values, duration, weight):  # type: ignore[no-untyped-def]
    """Charge for the time."""
    values[0] = 1.0
    return add_row(matrix, right, columns[6:], values, 1, duration, weight)


@njit(cache=True, nogil=True)
def add_slip(matrix, right, columns, values, moved, weight):  # type: ignore[no-untyped-def]
    """Charge for slipping sideways: the chord of an arc lies along the mean heading."""
    way, aside, cosine, sine, _ = moved
    values[0], values[1], values[2] = sine, -cosine, -0.5 * way
    values[3], values[4], values[5] = -sine, cosine, -0.5 * way
    return add_row(matrix, right, columns, values, 6, aside, weight)


@njit(cache=True, nogil=True)
def fastest_rim(rolling, speed, turn_rate):  # type: ignore[no-untyped-def]
    """How fast the fastest wheel's rim goes, and by how much faster for each m/s ahead and each rad/s.

    Of wheels as fast the one that turning speeds up counts; straight on, where none is, their mean.
    """
    fastest, quickened, by_speed, by_turn, alike = -1.0, 0.0, 0.0, 0.0, 0
    for wheel in range(rolling.shape[0]):
        ahead, turning = rolling[wheel, 0], rolling[wheel, 2]
        rim_speed = ahead * speed + turning * turn_rate
        rim, by_wheel = abs(rim_speed), np.sign(rim_speed) * turning * turn_rate
        if rim < fastest or (rim == fastest and by_wheel < quickened):
            continue
        if rim > fastest or by_wheel > quickened:
            fastest, quickened, by_speed, by_turn, alike = rim, by_wheel, 0.0, 0.0, 0
        by_speed += np.sign(rim_speed) * ahead
        by_turn += np.sign(rim_speed) * turning
        alike += 1
    return fastest, by_speed / alike, by_turn / alike


@njit(cache=True, nogil=True)
def over_limit(kind, limits, rolling, speed, turn_rate):  # type: ignore[no-untyped-def]
    """By how much a speed is above a limit, and how that grows for each m/s ahead and each rad/s.

    Of four kinds: ahead, in reverse, turning, and the fastest wheel's rim. `limits` are the four.
    """
    if kind == 0:
        return speed - limits[0], 1.0, 0.0
    if kind == 1:
        return -speed - limits[1], -1.0, 0.0
    if kind == 2:
        return abs(turn_rate) - limits[2], 0.0, np.sign(turn_rate)
    rim, rim_by_speed, rim_by_turn = fastest_rim(rolling, speed, turn_rate)
    return rim - limits[3], rim_by_speed, rim_by_turn


@njit(cache=True, nogil=True)
def add_speeds(matrix, right, columns, values, by_speed, by_turn, now, limits, rolling, speed, turn_rate, weight):  # type: ignore[no-untyped-def]
    """Charge for what an interval's speeds exceed their limits by; `now` is its row of the slopes (2, 7)."""
    cost = 0.0
    # Most intervals keep them all, which the rim of the largest wheel there could be tells at a glance.
    rim = 0.0
    for wheel in range(rolling.shape[0]):
        rim = max(rim, abs(rolling[wheel, 0] * speed) + abs(rolling[wheel, 2] * turn_rate))
    if -limits[1] <= speed <= limits[0] and abs(turn_rate) <= limits[2] and rim <= limits[3]:
        return cost
    for kind in range(4):
        excess, on_speed, on_turn = over_limit(kind, limits, rolling, speed, turn_rate)
        if excess > 0.0:
            for a in range(PLACES):
                values[a] = on_speed * by_speed[now, a] + on_turn * by_turn[now, a]
            cost += add_row(matrix, right, columns, values, PLACES, excess, weight)
    return cost


@njit(cache=True, nogil=True)
def add_radius(matrix, right, columns, values, by_speed, by_turn, moved, duration, radius, excess, weight):  # type: ignore[no-untyped-def]
    """Charge for turning more tightly than a drive can that does not turn on the spot."""
    for a in range(6):
        values[a] = duration * (radius * np.sign(moved[4]) * by_turn[a] - np.sign(moved[0]) * by_speed[a])
    return add_row(matrix, right, columns, values, 6, excess, weight)


@njit(cache=True, nogil=True)
def add_change(matrix, right, columns, slopes, i, change, between, excess, weight):  # type: ignore[no-untyped-def]
    """Charge for an acceleration beyond a limit from interval `i - 1` to `i`; before the first is what the robot does.

    `slopes` (2, 7) are of the speed or of the turn rate on both, in their turn as the `columns` (2, 7).
    """
    now = i & 1
    before = 1 - now
    direction, longer = np.sign(change) / between, np.sign(change) * change * 0.5 / between
    # By: pose i - 1 (3), pose i (3), pose i + 1 (3), time i - 1, time i.
    rows, values = np.full(11, -1, np.int64), np.zeros(11)
    for a in range(3):
        rows[3 + a], rows[6 + a] = columns[now, a], columns[now, 3 + a]
        values[3 + a] += direction * slopes[now, a]
        values[6 + a] += direction * slopes[now, 3 + a]
    rows[10] = columns[now, 6]
    values[10] += direction * slopes[now, 6] - longer
    if i > 0:
        for a in range(3):
            rows[a] = columns[before, a]
            values[a] -= direction * slopes[before, a]
            values[3 + a] -= direction * slopes[before, 3 + a]
        rows[9] = columns[before, 6]
        values[9] -= direction * slopes[before, 6] + longer
    return add_row(matrix, right, rows, values, 11, excess, weight)


@njit(cache=True, nogil=True)
def add_stand(matrix, right, columns, values, slopes, now, speed, between, most, weight):  # type: ignore[no-untyped-def]
    """Charge for braking to a stand at the end by more than `most`: a speed, or a turn rate; see `add_speeds`."""
    change = -speed / between
    excess = abs(change) - most
    if not excess > 0.0:
        return 0.0
    for a in range(PLACES):
        values[a] = -np.sign(change) / between * slopes[now, a]
    values[6] -= np.sign(change) * change * 0.5 / between
    return add_row(matrix, right, columns, values, PLACES, excess, weight)


@njit(cache=True, nogil=True)
def add_floor(matrix, right, columns, values, clearance, side, closed_beyond, discs, least, pose, weight):  # type: ignore[no-untyped-def]
    """Charge for what the body's discs (D, 2) lack to forbidden floor at a pose (3,).

    Their middles are to be `least` metres away from it.
    """
    cost = 0.0
    cosine, sine = np.cos(pose[2]), np.sin(pose[2])
    for d in range(discs.shape[0]):
        ox, oy = along_chord(cosine, sine, discs[d, 0], discs[d, 1])
        gap, by_x, by_y = gap_between(clearance, side, closed_beyond, pose[0] + ox, pose[1] + oy)
        lack = least - gap
        if lack > 0.0:
            values[0], values[1], values[2] = -by_x, -by_y, -(by_y * ox - by_x * oy)
            cost += add_row(matrix, right, columns, values, 3, lack, weight)
    return cost


@njit(cache=True, nogil=True)
def add_obstacles(matrix, right, columns, values, segments, outline, reach, spare, pose, elapsed, weight):  # type: ignore[no-untyped-def]
    """Charge for the gap that the body lacks to obstacles (S, 7) at a pose (3,).

    Each is where it is after so many seconds. The body's outline (C, 2) comes as far as `reach` from its origin.
    """
    cost, x, y = 0.0, pose[0], pose[1]
    cosine, sine = np.cos(pose[2]), np.sin(pose[2])
    for s in range(segments.shape[0]):
        ax, ay, bx, by, velocity_x, velocity_y, radius = segments[s]
        vx, vy = velocity_x * elapsed, velocity_y * elapsed
        # What lies farther off than the body reaches needs no look.
        far = max(max(min(ax, bx) + vx - x, x - max(ax, bx) - vx), max(min(ay, by) + vy - y, y - max(ay, by) - vy))
        if far > reach + spare + radius:
            continue
        gap, by_x, by_y, by_heading = gap_to_segment(outline, x, y, cosine, sine, ax + vx, ay + vy, bx + vx, by + vy)
        lack = spare + radius - gap
        if lack > 0.0:
            values[0], values[1], values[2] = -by_x, -by_y, -by_heading
            cost += add_row(matrix, right, columns, values, 3, lack, weight)
    return cost


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
    # Arrays are taken out once: handing on a named tuple counts all its arrays' references up and down.
    matrix, right, costs = equations.matrix, equations.right, equations.costs
    limits, weights, segments = problem.limits, problem.weights, problem.segments
    rolling, outline, discs, reach = limits.rolling, problem.body.outline, problem.body.discs, problem.body.outer_radius
    clearance, side, beyond = problem.cells.clearance, problem.cells.cell_size, problem.cells.closed_beyond
    tops = (limits.top_speed, limits.reverse_speed, limits.top_turn_rate, limits.top_rim_speed)
    radius, least = limits.turning_radius, problem.spare_to_floor + problem.body.disc_radius
    costs[:] = 0.0
    matrix[:] = 0.0
    right[:] = 0.0
    # Of this interval and the one before, in turn.
    by_speed, by_turn, columns = np.empty((2, PLACES)), np.empty((2, PLACES)), np.empty((2, PLACES), np.int64)
    values, last, elapsed, duration_before = np.empty(PLACES), times.shape[0] - 1, 0.0, 0.0
    speed_before, turn_rate_before = problem.speed, problem.turn_rate
    for i in range(times.shape[0]):
        now, duration, moved = i & 1, times[i], chord(poses, i)
        speed, turn_rate = moved[0] / duration, moved[4] / duration
        fill_columns(columns, now, i, last)
        fill_slopes(by_speed, by_turn, now, moved, duration)
        places = columns[now]
        costs[TIME] += add_time(matrix, right, places, values, duration, weights[TIME])
        costs[SLIP] += add_slip(matrix, right, places, values, moved, weights[SLIP])
        weight = weights[SPEED]
        costs[SPEED] += add_speeds(
            matrix, right, places, values, by_speed, by_turn, now, tops, rolling, speed, turn_rate, weight
        )
        excess = radius * abs(moved[4]) - abs(moved[0])
        if radius > 0.0 and excess > 0.0:
            weight = weights[RADIUS]
            costs[RADIUS] += add_radius(
                matrix, right, places, values, by_speed[now], by_turn[now], moved, duration, radius, excess, weight
            )
        between = 0.5 * (duration_before + duration)
        change = (speed - speed_before) / between
        moving = speed if abs(speed) > abs(speed_before) else speed_before
        excess = abs(change) - (limits.acceleration if change * moving > 0.0 else limits.braking)
        if excess > 0.0:
            costs[CHANGE] += add_change(matrix, right, columns, by_speed, i, change, between, excess, weights[CHANGE])
        change = (turn_rate - turn_rate_before) / between
        excess = abs(change) - limits.turn_acceleration
        if excess > 0.0:
            costs[CHANGE] += add_change(matrix, right, columns, by_turn, i, change, between, excess, weights[CHANGE])
        speed_before, turn_rate_before, duration_before = speed, turn_rate, duration
        elapsed += duration
        if i < last:
            pose, at, spare = poses[i + 1], places[3:6], problem.spare_to_obstacles
            weight = weights[GAP]
            costs[GAP] += add_floor(matrix, right, at, values, clearance, side, beyond, discs, least, pose, weight)
            weight = weights[OBSTACLE]
            costs[OBSTACLE] += add_obstacles(
                matrix, right, at, values, segments, outline, reach, spare, pose, elapsed, weight
            )
        elif not problem.ends_at_speed:
            between, weight = 0.5 * duration, weights[CHANGE]
            most = limits.braking
            costs[CHANGE] += add_stand(matrix, right, places, values, by_speed, now, speed, between, most, weight)
            most = limits.turn_acceleration
            costs[CHANGE] += add_stand(matrix, right, places, values, by_turn, now, turn_rate, between, most, weight)


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
