"""Kernels of the time-optimal band: residuals with their derivatives, and the banded normal equations."""

from __future__ import annotations

import numpy as np
from numba import njit

HALF = 11
"""Half bandwidth: an acceleration ties three neighbouring blocks of four unknowns."""
TIME, SLIP, SPEED, CHANGE, RADIUS, OBSTACLE, GAP = 0, 1, 2, 3, 4, 5, 6


@njit(cache=True, nogil=True)
def reversals(poses, least):  # type: ignore[no-untyped-def]
    """How often a way of poses (N, 3) changes between forward and reverse; steps of less than `least` do not count."""
    count, before = 0, 0
    for i in range(poses.shape[0] - 1):
        heading = 0.5 * (poses[i, 2] + poses[i + 1, 2])
        x, y = poses[i + 1, 0] - poses[i, 0], poses[i + 1, 1] - poses[i, 1]
        ahead = np.cos(heading) * x + np.sin(heading) * y
        if abs(ahead) > least:
            now = 1 if ahead > 0.0 else -1
            count += 1 if before == -now else 0
            before = now
    return count


@njit(cache=True, nogil=True)
def between(times, stamps, rows, result):  # type: ignore[no-untyped-def]
    """Rows (M, C) at `times` (M,), in a straight line between `rows` (N, C) at `stamps` (N,); held beyond both ends."""
    before = 0
    for i in range(times.shape[0]):
        while before < stamps.shape[0] - 2 and stamps[before + 1] <= times[i]:
            before += 1
        length = stamps[before + 1] - stamps[before]
        share = min(max((times[i] - stamps[before]) / length, 0.0), 1.0) if length > 0.0 else 1.0
        for j in range(rows.shape[1]):
            result[i, j] = rows[before, j] + share * (rows[before + 1, j] - rows[before, j])


@njit(cache=True, nogil=True)
def add_row(matrix, right, columns, values, count, residual, weight):  # type: ignore[no-untyped-def]
    """Add one weighted residual with its derivatives to the normal equations, in lower band storage."""
    for a in range(count):
        i = columns[a]
        if i < 0:
            continue
        right[i] -= weight * values[a] * residual
        for b in range(count):
            j = columns[b]
            if 0 <= j <= i:
                matrix[i, i - j] += weight * values[a] * values[b]


@njit(cache=True, nogil=True)
def solve_band(matrix, right):  # type: ignore[no-untyped-def]
    """Solve a symmetric positive definite system in lower band storage by Cholesky's method, in place.

    False if it is not positive definite.
    """
    size = right.shape[0]
    for i in range(size):
        low = max(i - HALF, 0)
        for j in range(low, i + 1):
            total = matrix[i, i - j]
            first = max(low, j - HALF)
            for k in range(first, j):
                total -= matrix[i, i - k] * matrix[j, j - k]
            if i == j:
                if not total > 0.0:
                    return False
                matrix[i, 0] = np.sqrt(total)
            else:
                matrix[i, i - j] = total / matrix[j, 0]
    for i in range(size):
        low = max(i - HALF, 0)
        for k in range(low, i):
            right[i] -= matrix[i, i - k] * right[k]
        right[i] /= matrix[i, 0]
    for i in range(size - 1, -1, -1):
        for k in range(i + 1, min(i + HALF + 1, size)):
            right[i] -= matrix[k, k - i] * right[k]
        right[i] /= matrix[i, 0]
    return True


@njit(cache=True, nogil=True)
def rim_nearest(outline, px, py):  # type: ignore[no-untyped-def]
    """The nearest point of a body's rim (C, 2) to a point, the distance squared, and whether the point is inside."""
    best, on_x, on_y, inside = np.inf, 0.0, 0.0, False
    previous = outline.shape[0] - 1
    for c in range(outline.shape[0]):
        ux, uy, vx, vy = outline[previous, 0], outline[previous, 1], outline[c, 0], outline[c, 1]
        if (uy > py) != (vy > py) and px < ux + (py - uy) / (vy - uy) * (vx - ux):
            inside = not inside
        ex, ey = vx - ux, vy - uy
        share = min(max(((px - ux) * ex + (py - uy) * ey) / (ex * ex + ey * ey), 0.0), 1.0)
        dx, dy = ux + share * ex - px, uy + share * ey - py
        if dx * dx + dy * dy < best:
            best, on_x, on_y = dx * dx + dy * dy, ux + share * ex, uy + share * ey
        previous = c
    return on_x, on_y, best, inside


@njit(cache=True, nogil=True)
def body_to_segment(outline, x, y, cosine, sine, ax, ay, bx, by):  # type: ignore[no-untyped-def]
    """Signed distance from a body's outline (C, 2) at a pose to a segment, and its derivatives by x, y and heading.

    Negative where the segment enters the body, by how far its innermost point would have to come out.
    """
    # The segment's ends in the body frame.
    px, py = cosine * (ax - x) + sine * (ay - y), cosine * (ay - y) - sine * (ax - x)
    qx, qy = cosine * (bx - x) + sine * (by - y), cosine * (by - y) - sine * (bx - x)
    fx, fy = qx - px, qy - py
    length = np.hypot(fx, fy)
    nearest, depth = np.inf, 0.0
    on_x, on_y, to_x, to_y = 0.0, 0.0, px, py
    # Points along it, a tenth of a metre apart: the nearest outside, or the deepest inside.
    count = min(int(length / 0.1) + 1, 200) if length > 0.0 else 0
    for i in range(count + 1):
        share = i / count if count > 0 else 0.0
        sx, sy = px + share * fx, py + share * fy
        rx, ry, square, inside = rim_nearest(outline, sx, sy)
        if inside and square > depth:
            depth, on_x, on_y, to_x, to_y = square, rx, ry, sx, sy
        elif depth == 0.0 and not inside and square < nearest:
            nearest, on_x, on_y, to_x, to_y = square, rx, ry, sx, sy
    if depth == 0.0 and length > 0.0:
        # The body's own corners to the segment: they may come nearer than any of those points.
        for c in range(outline.shape[0]):
            vx, vy = outline[c, 0], outline[c, 1]
            share = min(max(((vx - px) * fx + (vy - py) * fy) / (length * length), 0.0), 1.0)
            dx, dy = vx - px - share * fx, vy - py - share * fy
            if dx * dx + dy * dy < nearest:
                nearest = dx * dx + dy * dy
                on_x = vx
                on_y = vy
                to_x = px + share * fx
                to_y = py + share * fy
    sign = -1.0 if depth > 0.0 else 1.0
    distance = np.sqrt(depth if depth > 0.0 else nearest)
    nx, ny = sign * (on_x - to_x), sign * (on_y - to_y)
    if distance < 1e-9:
        nx, ny = -to_x, -to_y
    norm = max(np.hypot(nx, ny), 1e-9)
    nx, ny = nx / norm, ny / norm
    # Moving the body along the normal takes it away; turning moves the point on the rim.
    return sign * distance, cosine * nx - sine * ny, sine * nx + cosine * ny, ny * to_x - nx * to_y


@njit(cache=True, nogil=True)
def field_gap(clearance, cell, x, y):  # type: ignore[no-untyped-def]
    """Distance to forbidden floor at a point in metres, between cell centres, with its slopes; far off the grid."""
    u, v = x / cell - 0.5, y / cell - 0.5
    column, row = int(np.floor(u)), int(np.floor(v))
    if not (0 <= row < clearance.shape[0] - 1 and 0 <= column < clearance.shape[1] - 1):
        return 1e3, 0.0, 0.0
    u, v = u - column, v - row
    a, b = clearance[row, column], clearance[row, column + 1]
    c, d = clearance[row + 1, column], clearance[row + 1, column + 1]
    if a > 1e3 or b > 1e3 or c > 1e3 or d > 1e3:
        return 1e3, 0.0, 0.0
    value = (1.0 - v) * ((1.0 - u) * a + u * b) + v * ((1.0 - u) * c + u * d)
    return value, ((1.0 - v) * (b - a) + v * (d - c)) / cell, ((1.0 - u) * (c - a) + u * (d - b)) / cell


@njit(cache=True, nogil=True)
def speeds_between(poses, times, i):  # type: ignore[no-untyped-def]
    """Speed and turn rate on interval `i`, with: way, sideways way, mean heading's cosine and sine."""
    dx, dy = poses[i + 1, 0] - poses[i, 0], poses[i + 1, 1] - poses[i, 1]
    turn = poses[i + 1, 2] - poses[i, 2]
    middle = poses[i, 2] + 0.5 * turn
    cosine, sine = np.cos(middle), np.sin(middle)
    way, aside = dx * cosine + dy * sine, dy * cosine - dx * sine
    return way / times[i], turn / times[i], way, aside, cosine, sine


@njit(cache=True, nogil=True)
def gather(poses, times, begin, end_free, limits, weights, spare, floor, body, segments, matrix, right, costs):  # type: ignore[no-untyped-def]
    """Sum up the cost of a band by its terms into `costs`, and its normal equations unless `matrix` is of size 0.

    `poses` (N + 1, 3) with headings unwrapped, `times` (N,). Unknowns come in blocks of four: the time of interval i
    and the pose after it. `begin`: speed and turn rate at the start. `end_free`: whether it may end at speed.
    `limits`: top speed, reverse speed, top turn rate, acceleration, braking, turn acceleration, half the track width,
    top rim speed, turning radius. `spare`: gaps to keep to the floor's forbidden cells and to other obstacles.
    `floor`: clearance and cell size. `body`: the middles and the radius of discs that cover it, and its outline.
    `segments` (S, 7): both ends, velocity and radius of obstacles.
    """
    clearance, cell = floor
    discs, disc_radius, outline = body
    outer_radius = np.sqrt((outline * outline).sum(axis=1).max())
    count = times.shape[0]
    solve = matrix.shape[0] > 0
    costs[:] = 0.0
    if solve:
        matrix[:] = 0.0
        right[:] = 0.0
    columns, values = np.empty(11, np.int64), np.empty(11)
    top, back, top_turn, faster, slower, turning, half_track, rim, radius = limits
    before_speed, before_turn = begin
    elapsed = 0.0
    # Derivatives of speed and turn rate on the interval before: by its first pose, its second pose, its time.
    last_speed, last_turn = np.zeros(7), np.zeros(7)
    for i in range(count):
        speed, turn_rate, way, aside, cosine, sine = speeds_between(poses, times, i)
        duration, turn = times[i], poses[i + 1, 2] - poses[i, 2]
        # Columns of: pose i (3), pose i + 1 (3), time i. The first pose is given, and so is the last.
        for a in range(3):
            columns[a] = 4 * (i - 1) + 1 + a if i > 0 else -1
            columns[3 + a] = 4 * i + 1 + a if i < count - 1 else -1
        columns[6] = 4 * i
        by_speed, by_turn = np.zeros(7), np.zeros(7)
        by_speed[0] = -cosine / duration
        by_speed[1] = -sine / duration
        by_speed[2] = 0.5 * aside / duration
        by_speed[3] = cosine / duration
        by_speed[4] = sine / duration
        by_speed[5] = 0.5 * aside / duration
        by_speed[6] = -speed / duration
        by_turn[2], by_turn[5], by_turn[6] = -1.0 / duration, 1.0 / duration, -turn_rate / duration
        # Time.
        costs[TIME] += weights[TIME] * duration * duration
        if solve:
            values[0] = 1.0
            add_row(matrix, right, columns[6:7], values, 1, duration, weights[TIME])
        # No slipping sideways: the chord of an arc lies along the mean heading.
        costs[SLIP] += weights[SLIP] * aside * aside
        if solve:
            values[0], values[1], values[2] = sine, -cosine, -0.5 * way
            values[3], values[4], values[5] = -sine, cosine, -0.5 * way
            add_row(matrix, right, columns, values, 6, aside, weights[SLIP])
        # Speeds: ahead, in reverse, turn rate, and the outer wheel's rim.
        for kind in range(4):
            if kind == 0:
                excess, on_speed, on_turn = speed - top, 1.0, 0.0
            elif kind == 1:
                excess, on_speed, on_turn = -speed - back, -1.0, 0.0
            elif kind == 2:
                excess, on_speed, on_turn = abs(turn_rate) - top_turn, 0.0, np.sign(turn_rate)
            else:
                excess = abs(speed) + half_track * abs(turn_rate) - rim
                on_speed, on_turn = np.sign(speed), half_track * np.sign(turn_rate)
            if excess > 0.0:
                costs[SPEED] += weights[SPEED] * excess * excess
                if solve:
                    for a in range(7):
                        values[a] = on_speed * by_speed[a] + on_turn * by_turn[a]
                    add_row(matrix, right, columns, values, 7, excess, weights[SPEED])
        # Turning radius of a car.
        if radius > 0.0:
            excess = radius * abs(turn) - abs(way)
            if excess > 0.0:
                costs[RADIUS] += weights[RADIUS] * excess * excess
                if solve:
                    for a in range(6):
                        values[a] = duration * (radius * np.sign(turn) * by_turn[a] - np.sign(way) * by_speed[a])
                    add_row(matrix, right, columns, values, 6, excess, weights[RADIUS])
        # Accelerations from the interval before, or from what the robot does now; and to a stand at the end.
        for which in range(2):
            if which == 1 and (i < count - 1 or end_free):
                continue
            if which == 0:
                between = 0.5 * (times[i - 1] + duration) if i > 0 else 0.5 * duration
                change = (speed - before_speed) / between
                turn_change = (turn_rate - before_turn) / between
                moving = speed if abs(speed) > abs(before_speed) else before_speed
                sign = 1.0
            else:
                between = 0.5 * duration
                change = -speed / between
                turn_change = -turn_rate / between
                moving = speed
                sign = -1.0
            growing = change * moving > 0.0 and which == 0
            limit = faster if growing else slower
            for kind in range(2):
                value = change if kind == 0 else turn_change
                excess = abs(value) - (limit if kind == 0 else turning)
                if excess <= 0.0:
                    continue
                costs[CHANGE] += weights[CHANGE] * excess * excess
                if not solve:
                    continue
                direction = np.sign(value) * sign / between
                # Columns of: pose i - 1 (3), pose i (3), pose i + 1 (3), time i - 1, time i.
                rows, spread = np.full(11, -1, np.int64), np.zeros(11)
                now = by_speed if kind == 0 else by_turn
                for a in range(3):
                    rows[3 + a], rows[6 + a] = columns[a], columns[3 + a]
                    spread[3 + a] += direction * now[a]
                    spread[6 + a] += direction * now[3 + a]
                rows[10] = columns[6]
                spread[10] += direction * now[6] - np.sign(value) * value * 0.5 / between
                if which == 0 and i > 0:
                    former = last_speed if kind == 0 else last_turn
                    for a in range(3):
                        rows[a] = 4 * (i - 2) + 1 + a if i > 1 else -1
                        spread[a] -= direction * former[a]
                        spread[3 + a] -= direction * former[3 + a]
                    rows[9] = 4 * (i - 1)
                    spread[9] -= direction * former[6] + np.sign(value) * value * 0.5 / between
                add_row(matrix, right, rows, spread, 11, excess, weights[CHANGE])
        before_speed, before_turn = speed, turn_rate
        last_speed[:], last_turn[:] = by_speed, by_turn
        elapsed += duration
        if i == count - 1:
            continue
        # What the body comes near to at the pose after this interval.
        x, y, heading = poses[i + 1, 0], poses[i + 1, 1], poses[i + 1, 2]
        cosine, sine = np.cos(heading), np.sin(heading)
        for d in range(discs.shape[0]):
            ox = cosine * discs[d, 0] - sine * discs[d, 1]
            oy = sine * discs[d, 0] + cosine * discs[d, 1]
            gap, by_x, by_y = field_gap(clearance, cell, x + ox, y + oy)
            lack = spare[0] + disc_radius - gap
            if lack > 0.0:
                costs[GAP] += weights[GAP] * lack * lack
                if solve:
                    values[0], values[1], values[2] = -by_x, -by_y, -(by_y * ox - by_x * oy)
                    add_row(matrix, right, columns[3:6], values, 3, lack, weights[GAP])
        for s in range(segments.shape[0]):
            vx, vy = segments[s, 4] * elapsed, segments[s, 5] * elapsed
            # What lies farther off than the body reaches needs no look.
            far = max(
                min(segments[s, 0], segments[s, 2]) + vx - x,
                x - max(segments[s, 0], segments[s, 2]) - vx,
                min(segments[s, 1], segments[s, 3]) + vy - y,
                y - max(segments[s, 1], segments[s, 3]) - vy,
            )
            if far > outer_radius + spare[1] + segments[s, 6]:
                continue
            gap, by_x, by_y, by_heading = body_to_segment(
                outline,
                x,
                y,
                cosine,
                sine,
                segments[s, 0] + vx,
                segments[s, 1] + vy,
                segments[s, 2] + vx,
                segments[s, 3] + vy,
            )
            lack = spare[1] + segments[s, 6] - gap
            if lack > 0.0:
                costs[OBSTACLE] += weights[OBSTACLE] * lack * lack
                if solve:
                    values[0], values[1], values[2] = -by_x, -by_y, -by_heading
                    add_row(matrix, right, columns[3:6], values, 3, lack, weights[OBSTACLE])


@njit(cache=True, nogil=True)
def optimise(poses, times, begin, end_free, limits, weights, spare, floor, body, segments, iterations, costs):  # type: ignore[no-untyped-def]
    """Improve a band in place by Levenberg and Marquardt's method; `costs` (7,) receives what each term then costs."""
    count = times.shape[0]
    matrix, right = np.empty((4 * count, HALF + 1)), np.empty(4 * count)
    none, nothing = np.empty((0, HALF + 1)), np.empty(0)
    damping = 1e-2
    gather(poses, times, begin, end_free, limits, weights, spare, floor, body, segments, matrix, right, costs)
    cost = costs.sum()
    trial_poses, trial_times, trial_costs = poses.copy(), times.copy(), np.empty(7)
    for _ in range(iterations):
        system, step = matrix.copy(), right.copy()
        for i in range(4 * count):
            system[i, 0] += damping * (1.0 + system[i, 0])
        # The last pose is given: its unknowns stay where they are.
        for a in range(1, 4):
            system[4 * count - 4 + a, 0] = 1.0
        if not solve_band(system, step):
            damping *= 10.0
            continue
        largest = 0.0
        for i in range(count):
            trial_times[i] = min(max(times[i] + step[4 * i], 0.3 * times[i]), 3.0 * times[i])
            if i < count - 1:
                for a in range(3):
                    move = min(max(step[4 * i + 1 + a], -0.3), 0.3)
                    trial_poses[i + 1, a] = poses[i + 1, a] + move
                    largest = max(largest, abs(move))
        gather(
            trial_poses,
            trial_times,
            begin,
            end_free,
            limits,
            weights,
            spare,
            floor,
            body,
            segments,
            none,
            nothing,
            trial_costs,
        )
        if trial_costs.sum() < cost:
            gain = cost - trial_costs.sum()
            poses[:], times[:] = trial_poses, trial_times
            damping = max(0.2 * damping, 1e-7)
            gather(poses, times, begin, end_free, limits, weights, spare, floor, body, segments, matrix, right, costs)
            cost = costs.sum()
            if gain < 1e-4 * cost and largest < 1e-3:
                break
        else:
            damping *= 5.0
            if damping > 1e6:
                break
    return cost


@njit(cache=True, nogil=True)
def nearest_of(path, x, y):  # type: ignore[no-untyped-def]
    """Index of the point of a path (N, 2 or more) that is nearest to x, y."""
    best, nearest = np.inf, 0
    for i in range(path.shape[0]):
        dx, dy = x - path[i, 0], y - path[i, 1]
        if dx * dx + dy * dy < best:
            best, nearest = dx * dx + dy * dy, i
    return nearest


@njit(cache=True, nogil=True)
def passed_on(path, islands, near):  # type: ignore[no-untyped-def]
    """On which side of a path (N, 2 or more) each island (I, 3: x, y, reach) lies: 1 left, -1 right, 0 beside none."""
    last, sides = path.shape[0] - 1, np.zeros(islands.shape[0], np.int64)
    for i in range(islands.shape[0]):
        k = nearest_of(path, islands[i, 0], islands[i, 1])
        x, y = islands[i, 0] - path[k, 0], islands[i, 1] - path[k, 1]
        if 0 < k < last and np.hypot(x, y) <= near + islands[i, 2]:
            ahead_x, ahead_y = path[k + 1, 0] - path[k - 1, 0], path[k + 1, 1] - path[k - 1, 1]
            sides[i] = 1 if ahead_x * y - ahead_y * x >= 0.0 else -1
    return sides
