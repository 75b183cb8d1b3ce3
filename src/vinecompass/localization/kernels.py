"""Kernels of the particle filter. Poses and points are in the map's own frame, in cells."""

from __future__ import annotations

import numpy as np
from numba import njit

from vinecompass.grids.kernels import march

AGREES, PASSES, SHORT, UNMAPPED = 0, 1, 2, 3


# Sums may be taken in another order, and nothing is NaN: so eight points are looked up at once.
@njit(cache=True, nogil=True, fastmath={"reassoc", "contract", "nsz", "nnan"})
def weigh_particles(bordered, particles, points):  # type: ignore[no-untyped-def]
    """Sum a field (rows, columns) over a scan's points for each particle.

    `particles` (N, 3) and `points` (M, 2) are in cells and radians, in the field's own frame. `bordered` is the field
    with one more cell on each side, which holds what a point off the field counts as.
    """
    rows, columns = bordered.shape
    cells = bordered.ravel()
    count = points.shape[0]
    ahead, left = np.empty(count, np.float32), np.empty(count, np.float32)
    for j in range(count):
        ahead[j], left[j] = points[j, 0], points[j, 1]
    none, last_column, last_row = np.float32(0.0), np.float32(columns - 1), np.float32(rows - 1)
    result = np.empty(particles.shape[0])
    for i in range(particles.shape[0]):
        x, y = np.float32(particles[i, 0] + 1.0), np.float32(particles[i, 1] + 1.0)
        cosine, sine = np.float32(np.cos(particles[i, 2])), np.float32(np.sin(particles[i, 2]))
        total = np.float32(0.0)
        for j in range(count):
            # Kept on the border rather than left out: without a branch the loop is several times as fast.
            u = min(max(x + cosine * ahead[j] - sine * left[j], none), last_column)
            v = min(max(y + sine * ahead[j] + cosine * left[j], none), last_row)
            total += cells[np.int32(v) * np.int32(columns) + np.int32(u)]
        result[i] = total
    return result


@njit(cache=True, nogil=True)
def weigh_by_beams(distance, particles, origins, ends, mixture, spread, decay, farthest):  # type: ignore[no-untyped-def]
    """Sum the log of the beam mixture over a scan's beams for each particle.

    `distance` (rows, columns) is to the nearest occupied cell, in cells. Beams go from `origins` to `ends` (M, 2),
    in the body frame. `mixture`: shares of beams that hit, that end on something before it, and that end anywhere.
    `spread` of a hit, and `decay`, per cell, of how likely something stands before it.
    """
    result = np.empty(particles.shape[0])
    lengths, angles = np.empty(ends.shape[0]), np.empty(ends.shape[0])
    for j in range(ends.shape[0]):
        dx, dy = ends[j, 0] - origins[j, 0], ends[j, 1] - origins[j, 1]
        lengths[j], angles[j] = np.hypot(dx, dy), np.arctan2(dy, dx)
    peak = mixture[0] / (spread * np.sqrt(2.0 * np.pi))
    for i in range(particles.shape[0]):
        x, y, heading = particles[i, 0], particles[i, 1], particles[i, 2]
        cosine, sine = np.cos(heading), np.sin(heading)
        total = 0.0
        for j in range(ends.shape[0]):
            u = x + cosine * origins[j, 0] - sine * origins[j, 1]
            v = y + sine * origins[j, 0] + cosine * origins[j, 1]
            angle = heading + angles[j]
            expected = march(distance, u, v, np.cos(angle), np.sin(angle), farthest)
            likelihood = mixture[2] / farthest
            if expected < np.inf:
                likelihood += peak * np.exp(-0.5 * ((lengths[j] - expected) / spread) ** 2)
            if lengths[j] < expected:
                likelihood += mixture[1] * decay * np.exp(-decay * lengths[j])
            total += np.log(likelihood)
        result[i] = total
    return result


@njit(cache=True, nogil=True)
def choose_points(points, square, most):  # type: ignore[no-untyped-def]
    """Choose at most `most` of a scan's points (N, 2), in the order of its beams: their indices.

    One point of each square of side `square`, and of those as many as are wanted, evenly.
    """
    count = points.shape[0]
    slots = 2048
    taken = np.zeros((slots, 2), np.int64)
    used = np.zeros(slots, np.bool_)
    thinned, few = np.empty(count, np.int64), 0
    for i in range(count):
        a, b = int(np.floor(points[i, 0] / square)), int(np.floor(points[i, 1] / square))
        slot = (a * 73856093 ^ b * 19349663) & (slots - 1)
        while used[slot] and (taken[slot, 0] != a or taken[slot, 1] != b):
            slot = (slot + 1) & (slots - 1)
        if not used[slot] and few < slots // 2:
            used[slot], taken[slot, 0], taken[slot, 1] = True, a, b
            thinned[few] = i
            few += 1
    return thinned[: few : max(-(-few // most), 1)]


@njit(cache=True, nogil=True)
def judge_beams(distance, unknown, pose, origins, ends, near, behind):  # type: ignore[no-untyped-def]
    """What the map says of each beam of a scan taken from a pose: whether it agrees (N,), int8.

    `distance` to the nearest occupied cell and whether a cell is `unknown` (rows, columns); beams from `origins` to
    `ends` (N, 2) in the body frame. A beam agrees if it ends within `near` cells of a mapped wall, be it behind
    another, which may be of glass. The map has no say on one that ends where nothing is known. Of the others, which
    end on floor known as free, those pass that went on for more than `behind` cells after they met a wall.
    """
    rows, columns = distance.shape
    verdicts = np.empty(ends.shape[0], np.int8)
    cosine, sine = np.cos(pose[2]), np.sin(pose[2])
    for i in range(ends.shape[0]):
        x = pose[0] + cosine * origins[i, 0] - sine * origins[i, 1]
        y = pose[1] + sine * origins[i, 0] + cosine * origins[i, 1]
        u = pose[0] + cosine * ends[i, 0] - sine * ends[i, 1]
        v = pose[1] + sine * ends[i, 0] + cosine * ends[i, 1]
        length = np.hypot(u - x, v - y)
        on = 0.0 <= u < columns and 0.0 <= v < rows
        if on and distance[np.uint32(v), np.uint32(u)] <= near:
            verdicts[i] = AGREES
        elif not on or unknown[np.uint32(v), np.uint32(u)]:
            verdicts[i] = UNMAPPED
        elif length > behind and march(distance, x, y, (u - x) / length, (v - y) / length, length - behind) < np.inf:
            verdicts[i] = PASSES
        else:
            verdicts[i] = SHORT
    return verdicts


@njit(cache=True, nogil=True)
def move_particles(particles, steps):  # type: ignore[no-untyped-def]
    """Compose each particle (N, 3) with a step of its own (N, 3); headings in (-pi, pi]."""
    moved = np.empty_like(particles)
    for i in range(particles.shape[0]):
        cosine, sine = np.cos(particles[i, 2]), np.sin(particles[i, 2])
        moved[i, 0] = particles[i, 0] + cosine * steps[i, 0] - sine * steps[i, 1]
        moved[i, 1] = particles[i, 1] + sine * steps[i, 0] + cosine * steps[i, 1]
        moved[i, 2] = np.pi - (np.pi - particles[i, 2] - steps[i, 2]) % (2.0 * np.pi)
    return moved


@njit(cache=True, nogil=True)
def cloud_moments(particles, weights):  # type: ignore[no-untyped-def]
    """Mean (3,) and covariance (3, 3) of weighted particles (N, 3), how far they reach (3,), and their weight.

    Headings are taken from the heaviest particle's, the short way round. Particles of less than a hundredth of the
    mean weight are left out: together they could not make a hundredth of the cloud, but be far away.
    """
    first = particles[np.argmax(weights)]
    total = weights.sum()
    least, counted = 0.01 * total / weights.shape[0], 0.0
    mean, covariance = np.zeros(3), np.zeros((3, 3))
    low, high, away = np.zeros(3), np.zeros(3), np.empty(3)
    for i in range(particles.shape[0]):
        if weights[i] < least:
            continue
        away[0], away[1] = particles[i, 0] - first[0], particles[i, 1] - first[1]
        away[2] = np.pi - (np.pi - particles[i, 2] + first[2]) % (2.0 * np.pi)
        counted += weights[i]
        for a in range(3):
            low[a], high[a] = min(low[a], away[a]), max(high[a], away[a])
            mean[a] += weights[i] * away[a]
            for b in range(a + 1):
                covariance[a, b] += weights[i] * away[a] * away[b]
    if counted > 0.0:
        mean /= counted
        covariance /= counted
    for a in range(3):
        for b in range(a + 1):
            covariance[a, b] -= mean[a] * mean[b]
            covariance[b, a] = covariance[a, b]
        # Of a cloud without any width, rounding may leave less than nothing.
        covariance[a, a] = max(covariance[a, a], 0.0)
    mean += first
    mean[2] = np.pi - (np.pi - mean[2]) % (2.0 * np.pi)
    return mean, covariance, high - low, total


@njit(cache=True, nogil=True)
def tempered(weights, log_likelihoods, share):  # type: ignore[no-untyped-def]
    """Multiply weights (N,) by likelihoods, flattened by halves until the effective sample is `share` of them.

    Or half of what it was before, where that is less.
    """
    before = 0.0
    for i in range(weights.shape[0]):
        before += weights[i] * weights[i]
    enough = min(share * weights.shape[0], 0.5 / before)
    best, power = log_likelihoods.max(), 1.0
    result = np.empty_like(weights)
    while True:
        total, squares = 0.0, 0.0
        for i in range(weights.shape[0]):
            result[i] = weights[i] * np.exp(power * (log_likelihoods[i] - best))
            total += result[i]
            squares += result[i] * result[i]
        if total * total / squares >= enough:
            return result / total
        power *= 0.5


@njit(cache=True, nogil=True)
def drawn_evenly(weights, first, count):  # type: ignore[no-untyped-def]
    """Indices (count,) of particles, drawn evenly spaced through their cumulated weights; `first` is in [0, 1)."""
    indices, i, reached = np.empty(count, np.int64), 0, weights[0]
    for k in range(count):
        while reached < (first + k) / count and i < weights.shape[0] - 1:
            i += 1
            reached += weights[i]
        indices[k] = i
    return indices


@njit(cache=True, nogil=True)
def occupied_bins(particles, chosen, side, turn):  # type: ignore[no-untyped-def]
    """How many bins of side x side x turn the `chosen` (K,) of some particles (N, 3) lie in."""
    slots = 16
    while slots < 4 * chosen.shape[0]:
        slots *= 2
    keys, used, bins = np.empty((slots, 3), np.int64), np.zeros(slots, np.bool_), 0
    for i in chosen:
        a, b = int(np.floor(particles[i, 0] / side)), int(np.floor(particles[i, 1] / side))
        c = int(np.floor(particles[i, 2] / turn))
        slot = (a * 73856093 ^ b * 19349663 ^ c * 83492791) & (slots - 1)
        while used[slot] and (keys[slot, 0] != a or keys[slot, 1] != b or keys[slot, 2] != c):
            slot = (slot + 1) & (slots - 1)
        if not used[slot]:
            used[slot], keys[slot, 0], keys[slot, 1], keys[slot, 2] = True, a, b, c
            bins += 1
    return bins


@njit(cache=True, nogil=True)
def blurred(particles, chosen, spreads, labels, normals):  # type: ignore[no-untyped-def]
    """Copy the `chosen` (K,) of some particles (N, 3), each off by `normals` (K, 3) times its label's spreads (L, 3).

    Particles without a label, -1, are copied as they are.
    """
    copies = np.empty((chosen.shape[0], 3))
    for k in range(chosen.shape[0]):
        i = chosen[k]
        for a in range(3):
            copies[k, a] = particles[i, a]
            if labels[i] >= 0:
                copies[k, a] += spreads[labels[i], a] * normals[k, a]
        copies[k, 2] = np.pi - (np.pi - copies[k, 2]) % (2.0 * np.pi)
    return copies
