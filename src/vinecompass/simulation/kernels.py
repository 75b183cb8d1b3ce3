"""Kernels of the simulator: casting rays, touching things, and moving a body on its wheels."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.geometry.kernels import compose_pairs, is_inside


@njit(cache=True, nogil=True)
def cast_rays(segments, discs, poses, mount, angles, reach):  # type: ignore[no-untyped-def]
    """Distance (N,) along the beams of a sensor to the first segment (S, 4) or disc (P, 3) within its reach.

    The body's pose as each fires is `poses` (N, 3), the sensor's on the body `mount` (3,), and each beam's direction in
    the sensor's frame `angles` (N,).
    """
    sensor = np.empty(poses.shape)
    compose_pairs(poses, mount.reshape(1, 3), sensor)
    # What lies wholly beyond reach to one side of the sensor cannot end a beam within it.
    left, right = sensor[:, 0].min() - reach, sensor[:, 0].max() + reach
    low, high = sensor[:, 1].min() - reach, sensor[:, 1].max() + reach
    near, count = np.empty(segments.shape), 0
    for s in range(segments.shape[0]):
        ax, ay, bx, by = segments[s]
        if max(ax, bx) >= left and min(ax, bx) <= right and max(ay, by) >= low and min(ay, by) <= high:
            near[count] = segments[s]
            count += 1
    result = np.empty(angles.shape[0])
    for ray in range(angles.shape[0]):
        x, y, angle = sensor[ray, 0], sensor[ray, 1], sensor[ray, 2] + angles[ray]
        ux, uy = np.cos(angle), np.sin(angle)
        nearest = np.inf
        for s in range(count):
            ax, ay = near[s, 0] - x, near[s, 1] - y
            bx, by = near[s, 2] - x, near[s, 3] - y
            # Sides of the ray's line on which the two ends lie; on the same side it is not crossed.
            side_a, side_b = ux * ay - uy * ax, ux * by - uy * bx
            if (side_a > 0.0) == (side_b > 0.0):
                continue
            share = side_a / (side_a - side_b)
            distance = ux * (ax + share * (bx - ax)) + uy * (ay + share * (by - ay))
            if 0.0 < distance < nearest:
                nearest = distance
        for d in range(discs.shape[0]):
            cx, cy = discs[d, 0] - x, discs[d, 1] - y
            along, across = ux * cx + uy * cy, ux * cy - uy * cx
            inside = discs[d, 2] ** 2 - across**2
            if inside > 0.0 and 0.0 < along - np.sqrt(inside) < nearest:
                nearest = along - np.sqrt(inside)
        result[ray] = nearest
    return result


@njit(cache=True, nogil=True)
def segment_distance(x, y, ax, ay, bx, by):  # type: ignore[no-untyped-def]
    """Distance of a point to a segment."""
    ex, ey = bx - ax, by - ay
    length = ex * ex + ey * ey
    share = 0.0 if length == 0.0 else min(max(((x - ax) * ex + (y - ay) * ey) / length, 0.0), 1.0)
    return np.hypot(ax + share * ex - x, ay + share * ey - y)


@njit(cache=True, nogil=True)
def touches(outline, outer_radius, x, y, heading, segments, discs):  # type: ignore[no-untyped-def]
    """Whether a body (its outline in the body frame) at a pose meets a segment (S, 4) or a disc (P, 3)."""
    cosine, sine = np.cos(heading), np.sin(heading)
    corners = outline.shape[0]
    for s in range(segments.shape[0]):
        if segment_distance(x, y, segments[s, 0], segments[s, 1], segments[s, 2], segments[s, 3]) > outer_radius:
            continue
        # The segment in the body frame: it meets the body if an end lies inside or it crosses a side.
        ax, ay = segments[s, 0] - x, segments[s, 1] - y
        bx, by = segments[s, 2] - x, segments[s, 3] - y
        ax, ay = cosine * ax + sine * ay, cosine * ay - sine * ax
        bx, by = cosine * bx + sine * by, cosine * by - sine * bx
        if is_inside(outline, ax, ay):
            return True
        previous = corners - 1
        for corner in range(corners):
            px = outline[previous, 0]
            py = outline[previous, 1]
            qx = outline[corner, 0]
            qy = outline[corner, 1]
            side_p = (bx - ax) * (py - ay) - (by - ay) * (px - ax)
            side_q = (bx - ax) * (qy - ay) - (by - ay) * (qx - ax)
            side_a = (qx - px) * (ay - py) - (qy - py) * (ax - px)
            side_b = (qx - px) * (by - py) - (qy - py) * (bx - px)
            if side_p * side_q <= 0.0 and side_a * side_b <= 0.0:
                return True
            previous = corner
    for d in range(discs.shape[0]):
        cx, cy = discs[d, 0] - x, discs[d, 1] - y
        if np.hypot(cx, cy) > outer_radius + discs[d, 2]:
            continue
        cx, cy = cosine * cx + sine * cy, cosine * cy - sine * cx
        if is_inside(outline, cx, cy):
            return True
        previous = corners - 1
        for corner in range(corners):
            px = outline[previous, 0]
            py = outline[previous, 1]
            qx = outline[corner, 0]
            qy = outline[corner, 1]
            if segment_distance(cx, cy, px, py, qx, qy) <= discs[d, 2]:
                return True
            previous = corner
    return False


@njit(cache=True, nogil=True)
def toward(value, target, faster, slower):  # type: ignore[no-untyped-def]
    """Move a speed towards its target: by `faster` at most away from standstill, by `slower` at most towards it."""
    if value > 0.0:
        return min(max(target, max(value - slower, 0.0)), value + faster)
    if value < 0.0:
        return max(min(target, min(value + slower, 0.0)), value - faster)
    return min(max(target, -faster), faster)


@njit(cache=True, nogil=True)
def move_body(state, target, limits, wheels, grips, normals, step, outline, outer_radius, segments, discs, path):  # type: ignore[no-untyped-def]
    """Move a differential drive for `normals.shape[0]` time steps of `step` seconds; return the contacts met.

    `state` (changed in place): x, y, heading, commanded speed and turn rate as reached so far, both wheels' angles,
    both wheels' slip, both wheels' slip noise, and the body's own speed and turn rate.
    `target`: wanted speed and turn rate. `limits`: acceleration, braking, turn acceleration.
    `wheels`: track width, wheel radius, the slip of a dry wheel and how long it lasts.
    `grips`: of the floor under each wheel. `normals` (steps, 2): standard normal noise.
    `path` (steps, 7) receives x, y, heading, wheel angles, body speeds.
    """
    acceleration, braking, turn_acceleration = limits[0] * step, limits[1] * step, limits[2] * step
    track_width, wheel_radius, slip, slip_time = wheels[0], wheels[1], wheels[2], wheels[3]
    contacts = 0
    for i in range(normals.shape[0]):
        rims_before = state[3], state[4]
        state[3] = toward(state[3], target[0], acceleration, braking)
        state[4] += min(max(target[1] - state[4], -turn_acceleration), turn_acceleration)
        ground = np.empty(2)
        for wheel in range(2):
            rim = state[3] + (wheel - 0.5) * track_width * state[4]
            rim_before = rims_before[0] + (wheel - 0.5) * track_width * rims_before[1]
            state[5 + wheel] += 0.5 * (rim_before + rim) / wheel_radius * step
            # Slip wanders as an Ornstein-Uhlenbeck process about a mean that grows as grip is lost.
            wander = np.sqrt(2.0 * step / slip_time) * normals[i, wheel]
            state[9 + wheel] += wander - state[9 + wheel] * step / slip_time
            lost = 1.0 - grips[wheel]
            wanted = min(max(lost * (0.5 + 0.2 * state[9 + wheel]) + slip * state[9 + wheel], -0.1), 0.95)
            state[7 + wheel] += (wanted - state[7 + wheel]) * step / 0.15
            ground[wheel] = rim * (1.0 - state[7 + wheel])
        # The floor carries no more than the drive's own limits, so the body lags where slip changes fast.
        speed = toward(state[11], 0.5 * (ground[0] + ground[1]), acceleration, braking)
        turn_rate = (ground[1] - ground[0]) / track_width
        turn_rate = state[12] + min(max(turn_rate - state[12], -turn_acceleration), turn_acceleration)
        # Speeds change evenly within the step.
        turn, way = 0.5 * (state[12] + turn_rate) * step, 0.5 * (state[11] + speed) * step
        x = state[0] + way * np.cos(state[2] + 0.5 * turn)
        y = state[1] + way * np.sin(state[2] + 0.5 * turn)
        heading = state[2] + turn
        if touches(outline, outer_radius, x, y, heading, segments, discs):
            contacts += 1
            state[11], state[12] = 0.0, 0.0
        else:
            state[0], state[1], state[2], state[11], state[12] = x, y, heading, speed, turn_rate
        path[i, 0], path[i, 1], path[i, 2] = state[0], state[1], state[2]
        path[i, 3], path[i, 4], path[i, 5], path[i, 6] = state[5], state[6], state[11], state[12]
    return contacts
