"""Kernels of the velocity window: what roll-outs are charged for the room that they leave people who walk on."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.motion.kernels import along_chord

LOOKED_AT = 3
"""Every so manieth pose of a roll-out is compared with where people are by then."""


@njit(cache=True, nogil=True)
def abreast(x, y, velocity_x, velocity_y, longest):  # type: ignore[no-untyped-def]
    """When what lies at x, y and moves straight is nearest to the origin, within so many seconds."""
    pace = max(velocity_x * velocity_x + velocity_y * velocity_y, 1e-12)
    return min(max(-(x * velocity_x + y * velocity_y) / pace, 0.0), longest)


@njit(cache=True, nogil=True)
def where_it_stands(path, step, left_to_go):  # type: ignore[no-untyped-def]
    """The last pose of a roll-out (M, 3) before it stands at its leg's end, the way to it, and the pace there, m/s."""
    last, way, pace = 0, 0.0, 0.0
    while last < path.shape[0] - 1 and way < left_to_go:
        last += 1
        dx, dy = path[last, 0] - path[last - 1, 0], path[last, 1] - path[last - 1, 1]
        move = np.sqrt(dx * dx + dy * dy)
        way, pace = way + move, move / step
    return last, way, pace


@njit(cache=True, nogil=True)
def nearest_on_the_way(path, last, step, person, body):  # type: ignore[no-untyped-def]
    """How near the body's discs come to a person (5,) on a roll-out (M, 3): the distance squared, and how far it is to
    the left of the body by then."""
    nearest, left = np.inf, 0.0
    for i in range(1, path.shape[0], LOOKED_AT):
        t, j = (i + 1) * step, min(i, last)
        cosine, sine = np.cos(path[j, 2]), np.sin(path[j, 2])
        dx = path[j, 0] - person[0] - t * person[3]
        dy = path[j, 1] - person[1] - t * person[4]
        for d in range(body.discs.shape[0]):
            ox, oy = along_chord(cosine, sine, body.discs[d, 0], body.discs[d, 1])
            u, v = dx + ox, dy + oy
            if u * u + v * v < nearest:
                nearest, left = u * u + v * v, sine * dx - cosine * dy
    return nearest, left


@njit(cache=True, nogil=True)
def nearest_beyond(end, velocity, since, goes_on, beyond, person, body):  # type: ignore[no-untyped-def]
    """As `nearest_on_the_way`, beyond a roll-out that ends at a pose (3,) at a velocity (2,), `since` seconds from now.

    Robot and person are carried on straight for `beyond` seconds, the robot for `goes_on` of them: then it stands. Each
    disc is nearest where it has come abreast of the person.
    """
    cosine, sine = np.cos(end[2]), np.sin(end[2])
    dx, dy = end[0] - person[0] - since * person[3], end[1] - person[1] - since * person[4]
    apart_x, apart_y, longest = velocity[0] - person[3], velocity[1] - person[4], goes_on
    nearest, left = np.inf, 0.0
    for _ in range(2):
        for d in range(body.discs.shape[0]):
            ox, oy = along_chord(cosine, sine, body.discs[d, 0], body.discs[d, 1])
            t = abreast(dx + ox, dy + oy, apart_x, apart_y, longest)
            u, v = dx + ox + t * apart_x, dy + oy + t * apart_y
            if u * u + v * v < nearest:
                nearest = u * u + v * v
                left = sine * (dx + t * apart_x) - cosine * (dy + t * apart_y)
        dx, dy = dx + goes_on * apart_x, dy + goes_on * apart_y
        apart_x, apart_y, longest = -person[3], -person[4], beyond - goes_on
    return nearest, left


@njit(cache=True, nogil=True)
def charge_for_people(paths, step, people, body, charges):  # type: ignore[no-untyped-def]
    """What each roll-out (K, M, 3), of poses `step` seconds apart, is charged for people: into `charges` (K,).

    `people` is a `Minded`. After its `left_to_go` metres the robot stands: there its leg ends.
    """
    since = paths.shape[1] * step
    beyond = max(people.seconds - since, 0.0)
    for k in range(paths.shape[0]):
        charges[k] = 0.0
        path = paths[k]
        last, way, pace = where_it_stands(path, step, people.left_to_go)
        goes_on = min(max(people.left_to_go - way, 0.0) / max(pace, 1e-6), beyond)
        velocity = ((path[last, 0] - path[last - 1, 0]) / step, (path[last, 1] - path[last - 1, 1]) / step)
        for p in range(people.rows.shape[0]):
            person, wanted = people.rows[p], people.sides[p]
            closest, left = nearest_on_the_way(path, last, step, person, body)
            later, later_left = nearest_beyond(path[last], velocity, since, goes_on, beyond, person, body)
            if later < closest:
                closest, left = later, later_left
            gap = max(np.sqrt(closest) - body.disc_radius, 0.0)
            # Passing on the other side is worse the farther out it is: so there is always a way back.
            if wanted != 0.0 and (left > 0.0) != (wanted < 0.0):
                gap = -abs(left)
            charges[k] = max(charges[k], people.charge * max(1.0 - gap / people.space, 0.0))
