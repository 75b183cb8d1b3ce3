"""Kernels of the velocity window: roll-outs with the body, along the plan and over the floor."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.contact.cell_kernels import DIAGONAL, gap_bound, touched_cell
from vinecompass.contact.kernels import nearest_share
from vinecompass.motion.kernels import along_chord, ramp, stopping_distance, turned_a_little

FORGIVEN = 0.01
"""Metres beside the plan that are not steered against: it would sway about it by what the estimate is off."""
BACK_WITHIN = 0.5
"""Metres beside the plan from which the right direction leads back to it at 45 degrees."""
LOST_GAP = 1.5 * DIAGONAL
"""Cells of gap that the bounds lose; where the body just fits that is all there is."""
TO_GO, BESIDE, OFF_DIRECTION, NEARNESS, TURN_CHANGE, TOUCHES = range(6)
"""What is told of a roll-out, by column: metres of plan left at its end; mean metres beside it, less what is forgiven;
radians at the end off the direction that leads along it or back to it; mean of the squared lack of gap, 0 to 1; change
of turn rate; and 1 if the body could not stop before it touches something."""


@njit(cache=True, nogil=True)
def off_segment(plan, i, x, y):  # type: ignore[no-untyped-def]
    """How far along segment `i` of a plan (N, 2) its nearest point to x, y lies (0 to 1), and the distance squared."""
    share, dx, dy = nearest_share(plan[i, 0], plan[i, 1], plan[i + 1, 0], plan[i + 1, 1], x, y)
    return share, dx * dx + dy * dy


@njit(cache=True, nogil=True)
def along_plan(plan, first, x, y):  # type: ignore[no-untyped-def]
    """Nearest point of a plan (N, 2) from its segment `first` on: segment, share of it, and distance squared.

    The search goes on for three segments after the distance begins to grow: what comes back later is another stretch.
    """
    segment, (best_share, best) = first, off_segment(plan, first, x, y)
    rising, i = 0, first + 1
    while i < plan.shape[0] - 1 and rising < 3:
        share, distance = off_segment(plan, i, x, y)
        if distance < best:
            best, best_share, segment, rising = distance, share, i, 0
        else:
            rising += 1
        i += 1
    return segment, best_share, best


@njit(cache=True, nogil=True)
def nearness(around, tight_gap, x, y, cosine, sine, room):  # type: ignore[no-untyped-def]
    """How near a body at a pose is to forbidden floor, from 0 at `tight_gap` to 1 where it just fits, squared.

    Minus 1 where it touches. `room` (C, 2) is for its outline.
    """
    cells, body = around.cells, around.body
    gap = gap_bound(cells, x, y) - body.outer_radius
    if gap >= tight_gap:
        return 0.0
    gap = np.inf
    for d in range(body.discs.shape[0]):
        dx, dy = along_chord(cosine, sine, body.discs[d, 0], body.discs[d, 1])
        gap = min(gap, gap_bound(cells, x + dx, y + dy) - body.disc_radius)
    if gap <= 0.0:
        side = cells.cell_size
        if touched_cell(cells, around.body_in_cells, room, x / side, y / side, cosine, sine) >= 0:
            return -1.0
    narrow = min(max(1.0 - (gap + LOST_GAP * cells.cell_size) / tight_gap, 0.0), 1.0)
    return narrow * narrow


@njit(cache=True, nogil=True)
def direction_off(course, segment, x, y, heading, off):  # type: ignore[no-untyped-def]
    """Radians by which a heading is off the direction that leads along a segment of the plan, or back to it."""
    plan = course.plan
    dx, dy = plan[segment + 1, 0] - plan[segment, 0], plan[segment + 1, 1] - plan[segment, 1]
    left = dx * (y - plan[segment, 1]) - dy * (x - plan[segment, 0]) > 0.0
    back = np.arctan(off / BACK_WITHIN)
    turn = heading - course.headings[segment] + (back if left else -back)
    return abs(turn - 2.0 * np.pi * np.rint(turn / (2.0 * np.pi)))


@njit(cache=True, nogil=True)
def roll_one(wanted, begin, course, around, setup, path, terms, room):  # type: ignore[no-untyped-def]
    """Roll out one velocity (3,), until it touches something: there it stays. See `roll_out`."""
    start, limits, step = begin.pose, setup.limits, setup.step
    x, y, heading = start[0], start[1], start[2]
    cosine, sine = np.cos(heading), np.sin(heading)
    now = (begin.velocity[0], begin.velocity[1], begin.velocity[2])
    segment, share, square = along_plan(course.plan, 0, x, y)
    off = max(np.sqrt(square) - FORGIVEN, 0.0)
    beside, lack, travelled, contact = 0.0, 0.0, 0.0, np.inf
    for i in range(path.shape[0]):
        if contact == np.inf:
            then = ramp(limits, wanted, now, step)
            half = 0.25 * (now[2] + then[2]) * step
            ahead, left = 0.5 * (now[0] + then[0]) * step, 0.5 * (now[1] + then[1]) * step
            middle_cosine, middle_sine = turned_a_little(cosine, sine, half)
            dx, dy = along_chord(middle_cosine, middle_sine, ahead, left)
            new_cosine, new_sine = turned_a_little(middle_cosine, middle_sine, half)
            near = nearness(around, setup.tight_gap, x + dx, y + dy, new_cosine, new_sine, room)
            now = then
            if near < 0.0:
                contact = travelled
            else:
                lack += near
                x, y, heading, cosine, sine = x + dx, y + dy, heading + 2.0 * half, new_cosine, new_sine
                travelled += np.sqrt(ahead * ahead + left * left)
                segment, share, square = along_plan(course.plan, segment, x, y)
                off = max(np.sqrt(square) - FORGIVEN, 0.0)
        if contact < np.inf:
            lack += 1.0
        beside += off
        path[i, 0], path[i, 1], path[i, 2] = x, y, heading
    fastest = max(np.hypot(wanted[0], wanted[1]), np.hypot(begin.velocity[0], begin.velocity[1]))
    stopping = fastest * setup.delay + stopping_distance(fastest, limits.braking)
    way = course.along[segment] + share * (course.along[segment + 1] - course.along[segment])
    terms[TO_GO] = course.along[-1] - way + off
    terms[BESIDE] = beside / path.shape[0]
    terms[OFF_DIRECTION] = direction_off(course, segment, x, y, heading, off)
    terms[NEARNESS] = lack / path.shape[0]
    terms[TURN_CHANGE] = abs(wanted[2] - begin.velocity[2])
    terms[TOUCHES] = 1.0 if contact <= stopping else 0.0


@njit(cache=True, nogil=True)
def roll_out(velocities, begin, course, around, setup, paths, terms):  # type: ignore[no-untyped-def]
    """Roll out velocities (K, 3) from where the robot is. All lengths are in metres, in the grid's frame.

    Parameters
    ----------
    velocities : (K, 3)
    begin : `Begin`, where it is, and its velocity
    course : `CourseAhead`, the plan
    around : `Around`, the floor and the body
    setup : `RollOut`, how it is rolled out
    paths : (K, steps, 3), receives the poses in the site's frame
    terms : (K, 6), receives what is told of each
    """
    frame = begin.frame
    frame_cosine, frame_sine = np.cos(frame[2]), np.sin(frame[2])
    room = np.empty(around.body.outline.shape)
    for k in range(velocities.shape[0]):
        wanted = (velocities[k, 0], velocities[k, 1], velocities[k, 2])
        roll_one(wanted, begin, course, around, setup, paths[k], terms[k], room)
        for i in range(paths.shape[1]):
            x, y = along_chord(frame_cosine, frame_sine, paths[k, i, 0], paths[k, i, 1])
            paths[k, i, 0], paths[k, i, 1] = frame[0] + x, frame[1] + y
            paths[k, i, 2] += frame[2]
