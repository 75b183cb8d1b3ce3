"""Kernels of the velocity window: roll-outs with the body, along the plan and over the floor."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.contact.cell_kernels import DIAGONAL, gap_bound, touched_cell
from vinecompass.contact.kernels import nearest_share
from vinecompass.motion.kernels import along_chord, ramp, steps_of, stopping_distance, turned_a_little

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
def gap_of_discs(clearance, side, closed_beyond, discs, radius, x, y, cosine, sine):  # type: ignore[no-untyped-def]
    """Lower bound of the gap between the discs (D, 2) of a radius that cover a body at a pose, and forbidden floor."""
    gap = np.inf
    for d in range(discs.shape[0]):
        dx, dy = along_chord(cosine, sine, discs[d, 0], discs[d, 1])
        gap = min(gap, gap_bound(clearance, side, closed_beyond, x + dx, y + dy) - radius)
    return gap


@njit(cache=True, nogil=True)
def touches_floor(around, room, x, y, cosine, sine):  # type: ignore[no-untyped-def]
    """Whether the body touches forbidden floor at a pose; `room` (C, 2) is for its outline."""
    side = around.cells.cell_size
    return touched_cell(around.cells, around.body_in_cells, room, x / side, y / side, cosine, sine) >= 0


@njit(cache=True, nogil=True)
def direction_off(plan, headings, segment, x, y, heading, off):  # type: ignore[no-untyped-def]
    """Radians by which a heading is off the direction that leads along a segment of the plan, or back to it."""
    dx, dy = plan[segment + 1, 0] - plan[segment, 0], plan[segment + 1, 1] - plan[segment, 1]
    left = dx * (y - plan[segment, 1]) - dy * (x - plan[segment, 0]) > 0.0
    back = np.arctan(off / BACK_WITHIN)
    turn = heading - headings[segment] + (back if left else -back)
    return abs(turn - 2.0 * np.pi * np.rint(turn / (2.0 * np.pi)))


@njit(cache=True, nogil=True)
def roll_out(velocities, begin, course, around, setup, paths, terms):  # type: ignore[no-untyped-def]
    """Roll out velocities (K, 3) from where the robot is. All lengths are in metres, in the grid's frame.

    What touches something stays there. Forbidden floor on the way is looked for at the poses.

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
    # What each step needs is taken out once: handing on a named tuple counts all its arrays' references up and down.
    start, velocity, frame = begin.pose, begin.velocity, begin.frame
    plan, along, headings = course.plan, course.along, course.headings
    clearance, side, beyond = around.cells.clearance, around.cells.cell_size, around.cells.closed_beyond
    discs, radius = around.body.discs, around.body.disc_radius
    roomy, step, steps = around.body.outer_radius + setup.tight_gap, setup.step, steps_of(setup.limits, setup.step)
    frame_cosine, frame_sine = np.cos(frame[2]), np.sin(frame[2])
    start_cosine, start_sine = np.cos(start[2]), np.sin(start[2])
    first, first_share, first_square = along_plan(plan, 0, start[0], start[1])
    room = np.empty(around.body.outline.shape)
    count = paths.shape[1]
    for k in range(velocities.shape[0]):
        wanted = (velocities[k, 0], velocities[k, 1], velocities[k, 2])
        now = (velocity[0], velocity[1], velocity[2])
        x, y, heading, cosine, sine = start[0], start[1], start[2], start_cosine, start_sine
        segment, share, off = first, first_share, max(np.sqrt(first_square) - FORGIVEN, 0.0)
        beside, lack, travelled, contact = 0.0, 0.0, 0.0, np.inf
        for i in range(count):
            if contact == np.inf:
                then = ramp(steps, wanted, now)
                half = 0.25 * (now[2] + then[2]) * step
                ahead, left = 0.5 * (now[0] + then[0]) * step, 0.5 * (now[1] + then[1]) * step
                middle_cosine, middle_sine = turned_a_little(cosine, sine, half)
                dx, dy = along_chord(middle_cosine, middle_sine, ahead, left)
                new_cosine, new_sine = turned_a_little(middle_cosine, middle_sine, half)
                new_x, new_y, now = x + dx, y + dy, then
                if gap_bound(clearance, side, beyond, new_x, new_y) < roomy:
                    gap = gap_of_discs(clearance, side, beyond, discs, radius, new_x, new_y, new_cosine, new_sine)
                    if gap <= 0.0 and touches_floor(around, room, new_x, new_y, new_cosine, new_sine):
                        contact = travelled
                    else:
                        # How near it is to where the body just fits, from 0 at the tight gap to 1 there.
                        lack += min(max(1.0 - (gap + LOST_GAP * side) / setup.tight_gap, 0.0), 1.0) ** 2
                if contact == np.inf:
                    x, y, heading, cosine, sine = new_x, new_y, heading + 2.0 * half, new_cosine, new_sine
                    travelled += np.sqrt(ahead * ahead + left * left)
                    segment, share, square = along_plan(plan, segment, x, y)
                    off = max(np.sqrt(square) - FORGIVEN, 0.0)
            if contact < np.inf:
                lack += 1.0
            beside += off
            dx, dy = along_chord(frame_cosine, frame_sine, x, y)
            paths[k, i, 0], paths[k, i, 1], paths[k, i, 2] = frame[0] + dx, frame[1] + dy, heading + frame[2]
        way = along[segment] + share * (along[segment + 1] - along[segment])
        terms[k, TO_GO], terms[k, BESIDE] = along[-1] - way + off, beside / count
        terms[k, OFF_DIRECTION] = direction_off(plan, headings, segment, x, y, heading, off)
        terms[k, NEARNESS], terms[k, TURN_CHANGE] = lack / count, abs(wanted[2] - velocity[2])
        fastest = max(np.hypot(wanted[0], wanted[1]), np.hypot(velocity[0], velocity[1]))
        stopping = fastest * setup.delay + stopping_distance(fastest, setup.limits.braking)
        terms[k, TOUCHES] = 1.0 if contact <= stopping else 0.0
