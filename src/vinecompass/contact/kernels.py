"""Kernels of contact: a body's outline against points, segments and discs, at a pose and swept over a motion."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.geometry.kernels import arc_step

ALONG_SEGMENT = 0.1
"""Metres between the points of a segment at which its depth in a body is looked for."""
MOST_ON_SEGMENT = 200
"""Points of a segment that are looked at, at most."""
DEEPER = 0.0003
"""Metres that a body may come deeper over what it seems to be over already, as it slides by."""


@njit(cache=True, nogil=True)
def crosses(ax, ay, bx, by, x, y):  # type: ignore[no-untyped-def]
    """Whether a ray from a point along the x axis crosses a side: odd numbers of crossings are inside a polygon."""
    return (ay > y) != (by > y) and x < ax + (y - ay) / (by - ay) * (bx - ax)


@njit(cache=True, nogil=True)
def is_inside(outline, x, y):  # type: ignore[no-untyped-def]
    """Whether a point lies in a polygon (C, 2), by counting crossings."""
    inside = False
    previous = outline.shape[0] - 1
    for corner in range(outline.shape[0]):
        if crosses(outline[previous, 0], outline[previous, 1], outline[corner, 0], outline[corner, 1], x, y):
            inside = not inside
        previous = corner
    return inside


@njit(cache=True, nogil=True)
def nearest_share(ax, ay, bx, by, x, y):  # type: ignore[no-untyped-def]
    """How far along a segment (0 to 1) its nearest point to x, y lies, and from there to x, y."""
    ex, ey, dx, dy = bx - ax, by - ay, x - ax, y - ay
    length = ex * ex + ey * ey
    share = min(max((dx * ex + dy * ey) / length, 0.0), 1.0) if length > 0.0 else 0.0
    return share, dx - share * ex, dy - share * ey


@njit(cache=True, nogil=True)
def segment_distance(x, y, ax, ay, bx, by):  # type: ignore[no-untyped-def]
    """Distance of a point to a segment."""
    _, dx, dy = nearest_share(ax, ay, bx, by, x, y)
    return np.hypot(dx, dy)


@njit(cache=True, nogil=True)
def touches_segment(outline, ax, ay, bx, by):  # type: ignore[no-untyped-def]
    """Whether a segment in the body frame meets an outline (C, 2): an end lies inside, or it crosses a side."""
    if is_inside(outline, ax, ay):
        return True
    previous = outline.shape[0] - 1
    for corner in range(outline.shape[0]):
        px, py, qx, qy = outline[previous, 0], outline[previous, 1], outline[corner, 0], outline[corner, 1]
        side_p = (bx - ax) * (py - ay) - (by - ay) * (px - ax)
        side_q = (bx - ax) * (qy - ay) - (by - ay) * (qx - ax)
        side_a = (qx - px) * (ay - py) - (qy - py) * (ax - px)
        side_b = (qx - px) * (by - py) - (qy - py) * (bx - px)
        if side_p * side_q <= 0.0 and side_a * side_b <= 0.0:
            return True
        previous = corner
    return False


@njit(cache=True, nogil=True)
def touches_disc(outline, x, y, radius):  # type: ignore[no-untyped-def]
    """Whether a disc in the body frame meets an outline (C, 2)."""
    if is_inside(outline, x, y):
        return True
    previous = outline.shape[0] - 1
    for corner in range(outline.shape[0]):
        px, py, qx, qy = outline[previous, 0], outline[previous, 1], outline[corner, 0], outline[corner, 1]
        if segment_distance(x, y, px, py, qx, qy) <= radius:
            return True
        previous = corner
    return False


@njit(cache=True, nogil=True)
def touches(body, x, y, heading, segments, discs):  # type: ignore[no-untyped-def]
    """Whether a `BodyShape` at a pose meets a segment (S, 4), or a disc (P, 3 or more: x, y, radius)."""
    cosine, sine = np.cos(heading), np.sin(heading)
    for s in range(segments.shape[0]):
        ax, ay, bx, by = segments[s, 0], segments[s, 1], segments[s, 2], segments[s, 3]
        if segment_distance(x, y, ax, ay, bx, by) > body.outer_radius:
            continue
        ax, ay, bx, by = ax - x, ay - y, bx - x, by - y
        ax, ay = cosine * ax + sine * ay, cosine * ay - sine * ax
        bx, by = cosine * bx + sine * by, cosine * by - sine * bx
        if touches_segment(body.outline, ax, ay, bx, by):
            return True
    for d in range(discs.shape[0]):
        dx, dy = discs[d, 0] - x, discs[d, 1] - y
        if np.hypot(dx, dy) > body.outer_radius + discs[d, 2]:
            continue
        if touches_disc(body.outline, cosine * dx + sine * dy, cosine * dy - sine * dx, discs[d, 2]):
            return True
    return False


@njit(cache=True, nogil=True)
def nearest_on_outline(outline, px, py):  # type: ignore[no-untyped-def]
    """The nearest point of an outline (C, 2) to a point, the distance squared, and whether the point is inside."""
    best, on_x, on_y, inside = np.inf, 0.0, 0.0, False
    previous = outline.shape[0] - 1
    for c in range(outline.shape[0]):
        ux, uy, vx, vy = outline[previous, 0], outline[previous, 1], outline[c, 0], outline[c, 1]
        if crosses(ux, uy, vx, vy, px, py):
            inside = not inside
        _, dx, dy = nearest_share(ux, uy, vx, vy, px, py)
        if dx * dx + dy * dy < best:
            best, on_x, on_y = dx * dx + dy * dy, px - dx, py - dy
        previous = c
    return on_x, on_y, best, inside


@njit(cache=True, nogil=True)
def sweeps_over(body, points, velocity, seconds, samples):  # type: ignore[no-untyped-def]
    """Which point (N, 2) a `BodyShape` that keeps a velocity (3,) so long first comes over, or deeper over; -1 if none.

    It is looked at where it stands and at so many samples of its way; see `samples_of_sweep`.
    """
    # How deep inside the body each point lies where it stands; below 0 outside.
    depths = np.full(points.shape[0], -1.0)
    widest = body.outer_radius * body.outer_radius
    for i in range(samples + 1):
        pose_x, pose_y, turn = arc_step(velocity[0], velocity[1], velocity[2], seconds * i / samples)
        cosine, sine = np.cos(turn), np.sin(turn)
        for j in range(points.shape[0]):
            dx, dy = points[j, 0] - pose_x, points[j, 1] - pose_y
            if dx * dx + dy * dy > widest:
                continue
            ahead, left = cosine * dx + sine * dy, cosine * dy - sine * dx
            if not is_inside(body.outline, ahead, left):
                continue
            if i > 0 and depths[j] < 0.0:
                return j
            _, _, squared, _ = nearest_on_outline(body.outline, ahead, left)
            if i == 0:
                depths[j] = np.sqrt(squared)
            elif np.sqrt(squared) > depths[j] + DEEPER:
                return j
    return -1


@njit(cache=True, nogil=True)
def gap_to_segment(outline, x, y, cosine, sine, ax, ay, bx, by):  # type: ignore[no-untyped-def]
    """Signed distance from an outline (C, 2) at a pose to a segment, and its derivatives by x, y and heading.

    Negative where the segment enters the body, by how far its innermost point would have to come out.
    """
    # The segment's ends in the body frame.
    px, py = cosine * (ax - x) + sine * (ay - y), cosine * (ay - y) - sine * (ax - x)
    qx, qy = cosine * (bx - x) + sine * (by - y), cosine * (by - y) - sine * (bx - x)
    fx, fy = qx - px, qy - py
    length = np.hypot(fx, fy)
    nearest, depth = np.inf, 0.0
    on_x, on_y, to_x, to_y = 0.0, 0.0, px, py
    # Points along it: the nearest outside, or the deepest inside.
    count = min(int(length / ALONG_SEGMENT) + 1, MOST_ON_SEGMENT) if length > 0.0 else 0
    for i in range(count + 1):
        share = i / count if count > 0 else 0.0
        sx, sy = px + share * fx, py + share * fy
        rx, ry, square, inside = nearest_on_outline(outline, sx, sy)
        if inside and square > depth:
            depth, on_x, on_y, to_x, to_y = square, rx, ry, sx, sy
        elif depth == 0.0 and not inside and square < nearest:
            nearest, on_x, on_y, to_x, to_y = square, rx, ry, sx, sy
    if depth == 0.0 and length > 0.0:
        # The body's own corners to the segment: they may come nearer than any of those points.
        for c in range(outline.shape[0]):
            vx, vy = outline[c, 0], outline[c, 1]
            _, dx, dy = nearest_share(px, py, qx, qy, vx, vy)
            if dx * dx + dy * dy < nearest:
                nearest, on_x, on_y, to_x, to_y = dx * dx + dy * dy, vx, vy, vx - dx, vy - dy
    sign = -1.0 if depth > 0.0 else 1.0
    distance = np.sqrt(depth if depth > 0.0 else nearest)
    nx, ny = sign * (on_x - to_x), sign * (on_y - to_y)
    if distance < 1e-9:
        nx, ny = -to_x, -to_y
    norm = max(np.hypot(nx, ny), 1e-9)
    nx, ny = nx / norm, ny / norm
    # Moving the body along the normal takes it away; turning moves the point on the outline.
    return sign * distance, cosine * nx - sine * ny, sine * nx + cosine * ny, ny * to_x - nx * to_y
