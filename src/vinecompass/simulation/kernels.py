"""Kernels of the simulator: casting rays, and moving a body on its wheels."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.contact.kernels import touches
from vinecompass.geometry.kernels import compose_pairs, write_row
from vinecompass.motion.kernels import along_chord, clamp, follow, reach_velocity, toward

CREEPING = 1e-3
"""m/s below which a car's curve is not to be told from its velocity."""
SLIP_LAG = 0.15
"""Seconds with which a wheel's slip follows the floor's grip."""
MOST_SLIP, LEAST_SLIP = 0.95, -0.1
"""Shares of a wheel's rolling that slip takes at most, and that it may add."""
LOST_MEAN, LOST_SPREAD = 0.5, 0.2
"""Share of the rolling that a floor without any grip takes, and its standard deviation."""


@njit(cache=True, nogil=True)
def segments_in_reach(segments, sensor, reach):  # type: ignore[no-untyped-def]
    """Copies of the segments (S, 4) that do not lie wholly beyond reach to one side of a sensor's poses (N, 3)."""
    left, right, low, high = np.inf, -np.inf, np.inf, -np.inf
    for i in range(sensor.shape[0]):
        left, right = min(left, sensor[i, 0] - reach), max(right, sensor[i, 0] + reach)
        low, high = min(low, sensor[i, 1] - reach), max(high, sensor[i, 1] + reach)
    near, count = np.empty(segments.shape), 0
    for s in range(segments.shape[0]):
        ax, ay, bx, by = segments[s]
        if max(ax, bx) >= left and min(ax, bx) <= right and max(ay, by) >= low and min(ay, by) <= high:
            write_row(near, count, (ax, ay, bx, by))
            count += 1
    return near[:count]


@njit(cache=True, nogil=True)
def cast_rays(segments, discs, poses, mount, angles, reach):  # type: ignore[no-untyped-def]
    """Distance (N,) along the beams of a sensor to the first segment (S, 4) or disc (P, 3) within its reach.

    The body's pose as each fires is `poses` (N, 3), the sensor's on the body `mount` (3,), and each beam's direction in
    the sensor's frame `angles` (N,).
    """
    sensor = np.empty(poses.shape)
    compose_pairs(poses, mount.reshape(1, 3), sensor)
    near = segments_in_reach(segments, sensor, reach)
    result = np.empty(angles.shape[0])
    for ray in range(angles.shape[0]):
        x, y, angle = sensor[ray, 0], sensor[ray, 1], sensor[ray, 2] + angles[ray]
        ux, uy = np.cos(angle), np.sin(angle)
        nearest = np.inf
        for s in range(near.shape[0]):
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
def slip_on(state, tyres, grips, normals, step, wheel):  # type: ignore[no-untyped-def]
    """Let a wheel's slip wander on by a time step, about a mean that grows as grip is lost, and return it.

    The wandering is an Ornstein-Uhlenbeck process.
    """
    wander = np.sqrt(2.0 * step / tyres.slip_time) * normals[wheel]
    state.wanders[wheel] += wander - state.wanders[wheel] * step / tyres.slip_time
    lost = 1.0 - grips[wheel]
    wanted = lost * (LOST_MEAN + LOST_SPREAD * state.wanders[wheel]) + tyres.slip * state.wanders[wheel]
    state.slips[wheel] += (clamp(wanted, LEAST_SLIP, MOST_SLIP) - state.slips[wheel]) * step / SLIP_LAG
    return state.slips[wheel]


@njit(cache=True, nogil=True)
def roll_wheels(state, limits, tyres, reached, grips, normals, step, ground):  # type: ignore[no-untyped-def]
    """Turn the wheels as the base's velocity changes evenly to `reached` (3,), into what they do on the floor.

    `ground` (3,) receives the velocity that the wheels give the body, slipping as they do.
    """
    ground[:] = 0.0
    for wheel in range(limits.rolling.shape[0]):
        rolling = limits.rolling[wheel]
        rim = rolling[0] * reached[0] + rolling[1] * reached[1] + rolling[2] * reached[2]
        before = rolling[0] * state.reached[0] + rolling[1] * state.reached[1] + rolling[2] * state.reached[2]
        state.angles[wheel] += 0.5 * (before + rim) / tyres.radii[wheel] * step
        rim *= 1.0 - slip_on(state, tyres, grips, normals, step, wheel)
        for part in range(3):
            ground[part] += limits.unrolling[part, wheel] * rim
    if limits.turning_radius > 0.0:
        # Steered wheels hold the body on its curve, whatever each of the driven ones does.
        ground[2] = reached[2] * ground[0] / reached[0] if abs(reached[0]) > CREEPING else 0.0


@njit(cache=True, nogil=True)
def move_body(state, limits, tyres, targets, grips, normals, step, body, segments, discs, path):  # type: ignore[no-untyped-def]
    """Move a base for one time step of `step` seconds after the other; return in how many it touched something.

    Parameters
    ----------
    state : `BaseState`, changed in place
    limits : `MotionLimits`
    tyres : `Tyres`
    targets : (steps, 3), the velocity wanted in each step
    grips : (wheels,), of the floor under each wheel
    normals : (steps, wheels), standard normal noise
    body : `BodyShape`, which stops at what it touches: segments (S, 4) and discs (P, 3 or more)
    path : `BasePath`, of steps rows, which receives what became of it
    """
    faster, slower, turning = limits.acceleration * step, limits.braking * step, limits.turn_acceleration * step
    contacts = 0
    ground = np.empty(3)
    for i in range(targets.shape[0]):
        asked = reach_velocity(limits, targets[i], state.asked, step)
        reached = follow(limits, asked, state.reached, step)
        roll_wheels(state, limits, tyres, reached, grips, normals[i], step, ground)
        for part in range(3):
            state.asked[part] = asked[part]
            state.reached[part] = reached[part]
        # The floor carries no more than the drive's own limits, so the body lags where slip changes fast.
        velocity = state.velocity
        speed = toward(velocity[0], ground[0], faster, slower)
        sideways = toward(velocity[1], ground[1], faster, slower)
        turn_rate = velocity[2] + clamp(ground[2] - velocity[2], -turning, turning)
        # Speeds change evenly within the step.
        turn = 0.5 * (velocity[2] + turn_rate) * step
        middle = state.pose[2] + 0.5 * turn
        ahead, left = 0.5 * (velocity[0] + speed) * step, 0.5 * (velocity[1] + sideways) * step
        dx, dy = along_chord(np.cos(middle), np.sin(middle), ahead, left)
        x, y, heading = state.pose[0] + dx, state.pose[1] + dy, state.pose[2] + turn
        if touches(body, x, y, heading, segments, discs):
            contacts += 1
            velocity[:] = 0.0
        else:
            state.pose[0], state.pose[1], state.pose[2] = x, y, heading
            velocity[0], velocity[1], velocity[2] = speed, sideways, turn_rate
        write_row(path.poses, i, state.pose)
        write_row(path.angles, i, state.angles)
        write_row(path.velocities, i, velocity)
    return contacts
