"""Kernels of scans and laser odometry: beams placed, scans straightened, lines laid through them and aligned to."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.geometry.kernels import principal_axes, solve_in_place

BESIDE = 2
"""Beams to each side that a beam is compared with."""
LONE = 0.5
"""Metres by which a beam must go on beyond all of them to be left out."""


@njit(cache=True, nogil=True)
def beam_ends(ranges, angles, mount, sweep):  # type: ignore[no-untyped-def]
    """Where each beam started and ended (N, 2), the body's pose as it fired being `sweep` (N, 3), all in one frame."""
    origins, ends = np.empty((ranges.shape[0], 2)), np.empty((ranges.shape[0], 2))
    for beam in range(ranges.shape[0]):
        x, y, heading = sweep[beam, 0], sweep[beam, 1], sweep[beam, 2]
        cosine, sine = np.cos(heading), np.sin(heading)
        origins[beam, 0] = x + cosine * mount[0] - sine * mount[1]
        origins[beam, 1] = y + sine * mount[0] + cosine * mount[1]
        angle = heading + mount[2] + angles[beam]
        ends[beam, 0] = origins[beam, 0] + ranges[beam] * np.cos(angle)
        ends[beam, 1] = origins[beam, 1] + ranges[beam] * np.sin(angle)
    return origins, ends


@njit(cache=True, nogil=True)
def believed_beams(ranges, read):  # type: ignore[no-untyped-def]
    """Which beams, of those `read` (N,), may be so: a lone one that goes on where those beside it end may have failed.

    Of a beam without return, two of the two beams to each side must have none; one that returned from farther away than
    all of them is left out. What ends nearer than its neighbours, as at a table's leg, counts. Returns bools (N,).
    """
    believed = np.zeros(ranges.shape[0], np.bool_)
    for beam in range(ranges.shape[0]):
        reach = ranges[beam]
        if not read[beam]:
            continue
        told, silent, beyond = 0, 0, 0
        first, last = max(beam - BESIDE, 0), min(beam + BESIDE, ranges.shape[0] - 1)
        for other in range(first, last + 1):
            if other == beam or not read[other]:
                continue
            told += 1
            silent += ranges[other] == np.inf
            beyond += reach > ranges[other] + LONE
        believed[beam] = silent >= min(BESIDE, told) if reach == np.inf else beyond < max(told, 2)
    return believed


@njit(cache=True, nogil=True)
def telling_beams(ranges, returned, angles, mount, sweep, clear_reach):  # type: ignore[no-untyped-def]
    """As `beam_ends`, in 32 bits, of the beams that `returned`, and of those that saw nothing up to `clear_reach`.

    Returns, too, which of them hit (N,).
    """
    telling = np.flatnonzero(returned | (ranges == np.inf))
    reach, hit = np.empty(telling.shape[0]), np.empty(telling.shape[0], np.bool_)
    for k in range(telling.shape[0]):
        hit[k] = returned[telling[k]]
        reach[k] = ranges[telling[k]] if hit[k] else clear_reach
    origins, ends = beam_ends(reach, angles[telling], mount, sweep[telling])
    return origins.astype(np.float32), ends.astype(np.float32), hit


@njit(cache=True, nogil=True)
def returned_ends(ranges, returned, angles, mount, sweep):  # type: ignore[no-untyped-def]
    """As `beam_ends`, of the beams that `returned`."""
    chosen = np.flatnonzero(returned)
    reach = np.empty(chosen.shape[0])
    for k in range(chosen.shape[0]):
        reach[k] = ranges[chosen[k]]
    return beam_ends(reach, angles[chosen], mount, sweep[chosen])


@njit(cache=True, nogil=True)
def straighten(ranges, returned, angles, delays, velocity, turn_acceleration, duration):  # type: ignore[no-untyped-def]
    """Return what the beams that `returned` hit (N, 2) and when (N,), in the sensor's frame at the stamp.

    It is taken to have kept its velocity (3,) during the sweep, but for a turn rate that changed evenly: the
    velocity's is its mean over `duration`.
    """
    bend = 0.5 * turn_acceleration
    points, times = np.empty((ranges.shape[0], 2)), np.empty(ranges.shape[0])
    count = 0
    for beam in range(ranges.shape[0]):
        reach, delay = ranges[beam], delays[beam]
        if not returned[beam]:
            continue
        turn = (velocity[2] + bend * (delay - duration)) * delay
        # Over so short an arc its chord is as long as the arc itself, and lies along the mean heading.
        cosine, sine = np.cos(0.5 * turn), np.sin(0.5 * turn)
        points[count, 0] = delay * (cosine * velocity[0] - sine * velocity[1]) + reach * np.cos(angles[beam] + turn)
        points[count, 1] = delay * (sine * velocity[0] + cosine * velocity[1]) + reach * np.sin(angles[beam] + turn)
        times[count] = delay
        count += 1
    return points[:count], times[:count]


@njit(cache=True, nogil=True)
def fit_lines(points, reaches, longer):  # type: ignore[no-untyped-def]
    """Fit a line to the neighbours of each point (N, 2), the points being in the order of their bearing.

    Neighbours follow one another within `reaches` (N,) of the point, without a gap of half of that; up to `longer`
    times as far, where they lie on a line there, too. Returns a point on each line, its unit normal, and the variance
    of the normal's angle by how the neighbours scatter (N, 5): x, y, normal x, normal y, variance; the normal is 0, 0
    where there is no line.
    """
    lines = np.zeros((points.shape[0], 5))
    for i in range(points.shape[0]):
        if not fit_line(points, i, longer * reaches[i], lines[i]):
            fit_line(points, i, reaches[i], lines[i])
    return lines


@njit(cache=True, nogil=True)
def fit_line(points, i, reach, line):  # type: ignore[no-untyped-def]
    """Fit a line (5,) to the neighbours of one point, as `fit_lines` does; tell whether they lie on one."""
    x, y = points[i, 0], points[i, 1]
    total, mx, my, xx, yy, xy = 1.0, 0.0, 0.0, 0.0, 0.0, 0.0
    for direction in (-1, 1):
        last_x, last_y = x, y
        for away in range(1, 40):
            j = i + direction * away
            if j < 0 or j >= points.shape[0]:
                break
            px, py = points[j, 0], points[j, 1]
            if np.hypot(px - x, py - y) > reach or np.hypot(px - last_x, py - last_y) > 0.5 * reach:
                break
            last_x, last_y = px, py
            dx, dy = px - x, py - y
            total += 1.0
            mx += dx
            my += dy
            xx += dx * dx
            yy += dy * dy
            xy += dx * dy
    if total < 4.0:
        return False
    mx, my = mx / total, my / total
    xx, yy, xy = xx / total - mx * mx, yy / total - my * my, xy / total - mx * my
    angle, along, across = principal_axes(xx, xy, yy)
    if across > 0.05 * along:
        return False
    line[0] = x + mx
    line[1] = y + my
    line[2] = -np.sin(angle)
    line[3] = np.cos(angle)
    line[4] = across / (along * total)
    return True


@njit(cache=True, nogil=True)
def align_scan(reference, bearings, lines, points, delays, trust, first, prior, scatter, most_iterations):  # type: ignore[no-untyped-def]
    """Gauss-Newton on the distances of points (N, 2) to the lines of a reference scan.

    `reference` (M, 2) in the order of `bearings` (M,), with `lines` from `fit_lines`. Sought are six numbers: the
    pose of the points' frame in the reference's, and what is wrong with the velocity (3) that the points, seen
    `delays` (N,) after their stamp, were straightened by. `first` (6,) is where to start and `prior` (6, 6) the
    information that holds on to it. A point counts as much as its `trust` (N,), and half of it when `scatter` off its
    line (Cauchy weights).
    Returns the six numbers, the information of the points alone on the pose (3, 3), how much of it is likely made up
    by lines that lie a little askew (3, 3), the points' weighted mean square distance, the sum of weights, and the
    index (N,) of the reference point whose line each point found, or -1.
    """
    solution = first.copy()
    matrix, step, row = np.empty((6, 6)), np.empty(6), np.empty(6)
    information, made_up, along = np.zeros((3, 3)), np.zeros((3, 3)), np.empty(3)
    count = reference.shape[0]
    partners = np.full(points.shape[0], -1)
    squares, weights = 0.0, 0.0
    for iteration in range(most_iterations):
        # Far at first, so that a start that is off finds its lines, and near in the end.
        gate = 0.6 if iteration < 2 else 0.25
        for k in range(6):
            step[k] = 0.0
            for j in range(6):
                matrix[k, j] = prior[k, j]
                step[k] += prior[k, j] * (first[j] - solution[j])
        information[:] = 0.0
        made_up[:] = 0.0
        squares, weights = 0.0, 0.0
        cosine, sine = np.cos(solution[2]), np.sin(solution[2])
        for i in range(points.shape[0]):
            delay = delays[i]
            px = points[i, 0] + delay * (solution[3] - solution[5] * points[i, 1])
            py = points[i, 1] + delay * (solution[4] + solution[5] * points[i, 0])
            dx, dy = cosine * px - sine * py, sine * px + cosine * py
            x, y = solution[0] + dx, solution[1] + dy
            # Sought by its bearing at first, then about the partner it had.
            near, reach = partners[i], 2
            if near < 0:
                near, reach = np.searchsorted(bearings, np.arctan2(y, x)), 8
            best, nearest = gate * gate, -1
            for away in range(-reach, reach + 1):
                j = (near + away) % count
                distance = (reference[j, 0] - x) ** 2 + (reference[j, 1] - y) ** 2
                if distance < best and (lines[j, 2] != 0.0 or lines[j, 3] != 0.0):
                    best, nearest = distance, j
            partners[i] = nearest
            if nearest < 0:
                continue
            nx, ny = lines[nearest, 2], lines[nearest, 3]
            distance = nx * (x - lines[nearest, 0]) + ny * (y - lines[nearest, 1])
            weight = trust[i] / (1.0 + (distance / scatter) ** 2)
            row[0], row[1], row[2] = nx, ny, ny * dx - nx * dy
            row[3] = delay * (nx * cosine + ny * sine)
            row[4] = delay * (ny * cosine - nx * sine)
            row[5] = delay * row[2]
            for j in range(6):
                step[j] -= weight * row[j] * distance
                for k in range(j + 1):
                    matrix[j, k] += weight * row[j] * row[k]
            along[0], along[1], along[2] = ny, -nx, -nx * dx - ny * dy
            askew = weight * lines[nearest, 4]
            for j in range(3):
                for k in range(3):
                    information[j, k] += weight * row[j] * row[k]
                    made_up[j, k] += askew * along[j] * along[k]
            squares += weight * distance * distance
            weights += weight
        solve_in_place(matrix, step)
        solution += step
        if iteration > 2 and abs(step[0]) + abs(step[1]) < 1e-4 and abs(step[2]) < 2e-5:
            break
    return solution, information, made_up, squares / max(weights, 1e-9), weights, partners
