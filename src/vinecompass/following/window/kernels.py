"""Kernels of the velocity window: roll-outs with the body, along the plan, over the floor and among people."""

from __future__ import annotations

import numpy as np
from numba import njit

HALF_DIAGONAL = 0.7072
FORGIVEN = 0.01
"""Metres beside the plan that are not steered against: it would sway about it by what the estimate is off."""
BACK_WITHIN = 0.5
"""Metres beside the plan from which the right direction leads back to it at 45 degrees."""


@njit(cache=True, nogil=True)
def gap_to(clearance, cell, x, y):  # type: ignore[no-untyped-def]
    """Lower bound of the distance from a point to forbidden floor, in metres; 0 off the grid.

    The clearance of the point's cell is taken from centre to centre; half a diagonal is lost at either end.
    """
    if x < 0.0 or y < 0.0:
        return 0.0
    row, column = int(y / cell), int(x / cell)
    if row >= clearance.shape[0] or column >= clearance.shape[1]:
        return 0.0
    return clearance[row, column] - 2.0 * HALF_DIAGONAL * cell


@njit(cache=True, nogil=True)
def body_meets(forbidden, clearance, cell, rim, spacing, x, y, cosine, sine):  # type: ignore[no-untyped-def]
    """Whether the body's rim, points (R, 2) `spacing` apart, lies on forbidden floor at a pose; off the grid is free.

    Where the floor about a point is clear for some way, the points within it need no look.
    """
    i, count = 0, rim.shape[0]
    while i < count:
        px = x + cosine * rim[i, 0] - sine * rim[i, 1]
        py = y + sine * rim[i, 0] + cosine * rim[i, 1]
        row, column = int(np.floor(py / cell)), int(np.floor(px / cell))
        if not (0 <= row < clearance.shape[0] and 0 <= column < clearance.shape[1]):
            i += 1
            continue
        if forbidden[row, column]:
            return True
        i += max(int((clearance[row, column] - 2.0 * HALF_DIAGONAL * cell) / spacing), 1)
    return False


@njit(cache=True, nogil=True)
def to_segment(plan, i, x, y):  # type: ignore[no-untyped-def]
    """How far along segment `i` of a plan (N, 2) its nearest point to x, y lies (0 to 1), and the distance squared."""
    ax, ay = plan[i, 0], plan[i, 1]
    ex, ey, dx, dy = plan[i + 1, 0] - ax, plan[i + 1, 1] - ay, x - ax, y - ay
    length = ex * ex + ey * ey
    share = min(max((dx * ex + dy * ey) / length, 0.0), 1.0) if length > 0.0 else 0.0
    dx -= share * ex
    dy -= share * ey
    return share, dx * dx + dy * dy


@njit(cache=True, nogil=True)
def along_plan(plan, first, x, y):  # type: ignore[no-untyped-def]
    """Nearest point of a plan (N, 2) from its segment `first` on: segment, share of it, and distance squared.

    The search goes on for three segments after the distance begins to grow: what comes back later is another stretch.
    """
    segment, (best_share, best) = first, to_segment(plan, first, x, y)
    rising, i = 0, first + 1
    while i < plan.shape[0] - 1 and rising < 3:
        share, distance = to_segment(plan, i, x, y)
        if distance < best:
            best, best_share, segment, rising = distance, share, i, 0
        else:
            rising += 1
        i += 1
    return segment, best_share, best


@njit(cache=True, nogil=True)
def roll_out(velocities, current, limits, start, frame, course, floor, body, steps, timing, tight_gap, paths, terms):  # type: ignore[no-untyped-def]
    """Roll out velocities (K, 2) from the current speed and turn rate at a pose.

    All lengths in metres, in the grid's `frame`; `paths` (K, steps, 3) receives the poses in the site's.
    `limits`: acceleration, braking, turn acceleration. `course`: the plan (N, 2) of two points or more, its way along
    (N,) and the body's direction on each segment (N,). `floor`: forbidden cells, clearance, cell size. `body`: points
    on its rim and their spacing; the middles (D, 2) and the radius of discs that cover it; its outer radius.
    `timing`: seconds between poses, and from seeing to braking.
    `terms` (K, 6) receives: metres of plan left at the end, mean metres beside it less what is forgiven, radians at the
    end off the direction that leads along it or back to it, mean of the squared lack of gap (0 to 1), change of turn
    rate, and 1 if the body could not stop before it touches something.
    """
    plan, along, headings = course
    forbidden, clearance, cell = floor
    rim, spacing, discs, disc_radius, outer_radius = body
    step, delay = timing
    frame_cosine, frame_sine = np.cos(frame[2]), np.sin(frame[2])
    start_cosine, start_sine = np.cos(start[2]), np.sin(start[2])
    start_segment, start_share, start_off = along_plan(plan, 0, start[0], start[1])
    for k in range(velocities.shape[0]):
        x, y, heading, speed, turn_rate = start[0], start[1], start[2], current[0], current[1]
        cosine, sine = start_cosine, start_sine
        segment, share, off = start_segment, start_share, max(np.sqrt(start_off) - FORGIVEN, 0.0)
        beside, lack, travelled, contact = 0.0, 0.0, 0.0, np.inf
        rate = (limits[0] if abs(velocities[k, 0]) > abs(speed) else limits[1]) * step
        turning = limits[2] * step
        for i in range(steps):
            if contact == np.inf:
                new_speed = speed + min(max(velocities[k, 0] - speed, -rate), rate)
                new_turn = turn_rate + min(max(velocities[k, 1] - turn_rate, -turning), turning)
                half, move = 0.25 * (turn_rate + new_turn) * step, 0.5 * (speed + new_speed) * step
                speed, turn_rate = new_speed, new_turn
                # Sine and cosine of half the step's turn by their series: it is a tenth of a radian at most.
                square = half * half
                c = 1.0 - 0.5 * square * (1.0 - square / 12.0)
                s = half * (1.0 - square / 6.0 * (1.0 - square / 20.0))
                middle_cosine, middle_sine = cosine * c - sine * s, sine * c + cosine * s
                new_x, new_y = x + move * middle_cosine, y + move * middle_sine
                new_cosine = middle_cosine * c - middle_sine * s
                new_sine = middle_sine * c + middle_cosine * s
                gap = gap_to(clearance, cell, new_x, new_y) - outer_radius
                if gap < tight_gap:
                    gap = np.inf
                    for d in range(discs.shape[0]):
                        dx = new_cosine * discs[d, 0] - new_sine * discs[d, 1]
                        dy = new_sine * discs[d, 0] + new_cosine * discs[d, 1]
                        gap = min(gap, gap_to(clearance, cell, new_x + dx, new_y + dy) - disc_radius)
                    if gap <= 0.0 and body_meets(
                        forbidden, clearance, cell, rim, spacing, new_x, new_y, new_cosine, new_sine
                    ):
                        contact = travelled
                    # The bounds lose up to three cells of gap; where the body just fits that is all there is.
                    narrow = min(max(1.0 - (gap + 3.0 * HALF_DIAGONAL * cell) / tight_gap, 0.0), 1.0)
                    lack += 1.0 if contact < np.inf else narrow * narrow
                if contact == np.inf:
                    x = new_x
                    y = new_y
                    heading = heading + 2.0 * half
                    cosine = new_cosine
                    sine = new_sine
                    travelled += abs(move)
                    segment, share, square = along_plan(plan, segment, x, y)
                    off = max(np.sqrt(square) - FORGIVEN, 0.0)
            else:
                lack += 1.0
            beside += off
            paths[k, i, 0] = frame[0] + frame_cosine * x - frame_sine * y
            paths[k, i, 1] = frame[1] + frame_sine * x + frame_cosine * y
            paths[k, i, 2] = heading + frame[2]
        fastest = max(abs(velocities[k, 0]), abs(current[0]))
        stopping = fastest * delay + fastest * fastest / (2.0 * limits[1])
        way = along[segment] + share * (along[segment + 1] - along[segment])
        # Beside the plan the right direction is one that leads back to it.
        dx, dy = plan[segment + 1, 0] - plan[segment, 0], plan[segment + 1, 1] - plan[segment, 1]
        left = dx * (y - plan[segment, 1]) - dy * (x - plan[segment, 0]) > 0.0
        back = np.arctan(off / BACK_WITHIN)
        turn = heading - headings[segment] + (back if left else -back)
        terms[k, 0] = along[-1] - way + off
        terms[k, 1] = beside / steps
        terms[k, 2] = abs(turn - 2.0 * np.pi * np.rint(turn / (2.0 * np.pi)))
        terms[k, 3] = lack / steps
        terms[k, 4] = abs(velocities[k, 1] - current[1])
        terms[k, 5] = 1.0 if contact <= stopping else 0.0


@njit(cache=True, nogil=True)
def abreast(x, y, velocity_x, velocity_y, longest):  # type: ignore[no-untyped-def]
    """When what lies at x, y and moves straight is nearest to the origin, within so many seconds."""
    pace = max(velocity_x * velocity_x + velocity_y * velocity_y, 1e-12)
    return min(max(-(x * velocity_x + y * velocity_y) / pace, 0.0), longest)


@njit(cache=True, nogil=True)
def charge_for_people(paths, step, minded, left_to_go, people, discs, disc_radius, space, charge, charges):  # type: ignore[no-untyped-def]
    """What each roll-out (K, steps, 3) is charged for the room it leaves people as they walk on, into `charges` (K,).

    `people` (P, 5): position and velocity in the site frame, and the side that they should be passed on (1 left, -1
    right, 0 either). They are `minded` for so many seconds: every third pose is looked at, and beyond the
    roll-out both are carried on straight. After `left_to_go` metres the robot stands: there its leg ends.
    The body is covered by `discs` (D, 2) of `disc_radius`. `charge` is for touching, and falls to none at `space`, m.
    """
    steps = paths.shape[1]
    beyond = max(minded - steps * step, 0.0)
    nearest, lefts = np.empty(people.shape[0]), np.empty(people.shape[0])
    for k in range(paths.shape[0]):
        charges[k] = 0.0
        last, way, pace = 0, 0.0, 0.0
        while last < steps - 1 and way < left_to_go:
            last += 1
            dx = paths[k, last, 0] - paths[k, last - 1, 0]
            dy = paths[k, last, 1] - paths[k, last - 1, 1]
            move = np.sqrt(dx * dx + dy * dy)
            way, pace = way + move, move / step
        end_x, end_y, end_heading = paths[k, last]
        end_cosine, end_sine = np.cos(end_heading), np.sin(end_heading)
        goes_on = min(max(left_to_go - way, 0.0) / max(pace, 1e-6), beyond)
        velocity_x = (end_x - paths[k, last - 1, 0]) / step
        velocity_y = (end_y - paths[k, last - 1, 1]) / step
        nearest[:] = np.inf
        for i in range(1, steps, 3):
            t, j = (i + 1) * step, min(i, last)
            cosine, sine = np.cos(paths[k, j, 2]), np.sin(paths[k, j, 2])
            for person in range(people.shape[0]):
                dx = paths[k, j, 0] - people[person, 0] - t * people[person, 2]
                dy = paths[k, j, 1] - people[person, 1] - t * people[person, 3]
                for d in range(discs.shape[0]):
                    u = dx + cosine * discs[d, 0] - sine * discs[d, 1]
                    v = dy + sine * discs[d, 0] + cosine * discs[d, 1]
                    if u * u + v * v < nearest[person]:
                        nearest[person], lefts[person] = u * u + v * v, sine * dx - cosine * dy
        for person in range(people.shape[0]):
            person_x, person_y, walk_x, walk_y, wanted = people[person]
            closest, left = nearest[person], lefts[person]
            # Beyond the roll-out each disc is nearest where it has come abreast of the person: on the way to the leg's
            # end, or standing there.
            dx = end_x - person_x - steps * step * walk_x
            dy = end_y - person_y - steps * step * walk_y
            apart_x, apart_y, longest = velocity_x - walk_x, velocity_y - walk_y, goes_on
            for _ in range(2):
                for d in range(discs.shape[0]):
                    u = dx + end_cosine * discs[d, 0] - end_sine * discs[d, 1]
                    v = dy + end_sine * discs[d, 0] + end_cosine * discs[d, 1]
                    t = abreast(u, v, apart_x, apart_y, longest)
                    u += t * apart_x
                    v += t * apart_y
                    if u * u + v * v < closest:
                        closest = u * u + v * v
                        left = end_sine * (dx + t * apart_x) - end_cosine * (dy + t * apart_y)
                dx, dy = dx + goes_on * apart_x, dy + goes_on * apart_y
                apart_x, apart_y, longest = -walk_x, -walk_y, beyond - goes_on
            gap = max(np.sqrt(closest) - disc_radius, 0.0)
            # Passing on the other side is worse the farther out it is: so there is always a way back.
            if wanted != 0.0 and (left > 0.0) != (wanted < 0.0):
                gap = -abs(left)
            charges[k] = max(charges[k], charge * max(1.0 - gap / space, 0.0))
