"""Kernels of the particle filter."""

from __future__ import annotations

import numpy as np
from numba import njit


@njit(cache=True, nogil=True)
def weigh_particles(field, particles, points, outside):  # type: ignore[no-untyped-def]
    """Sum a field of log-likelihoods (rows, columns) over a scan's points for each particle.

    `particles` (N, 3) and `points` (M, 2) are in cells and radians, in the field's own frame; a point off the field
    counts as `outside`.
    """
    rows, columns = field.shape
    result = np.empty(particles.shape[0])
    for i in range(particles.shape[0]):
        x, y = particles[i, 0], particles[i, 1]
        cosine, sine = np.cos(particles[i, 2]), np.sin(particles[i, 2])
        total = 0.0
        for j in range(points.shape[0]):
            u = x + cosine * points[j, 0] - sine * points[j, 1]
            v = y + sine * points[j, 0] + cosine * points[j, 1]
            # Compared before they are cut to whole numbers: on the field, cutting is rounding down, and cheaper.
            if 0.0 <= u < columns and 0.0 <= v < rows:
                total += field[np.uint32(v), np.uint32(u)]
            else:
                total += outside
        result[i] = total
    return result
