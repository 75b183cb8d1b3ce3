"""How many particles a belief needs, and how they are drawn anew."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.special import ndtri

from vinecompass.localization.kernels import drawn_evenly, occupied_bins

__all__ = ["count_bound", "low_variance_sample", "particles_needed"]

FloatArray = NDArray[np.float64]
BIN, BIN_TURN = 0.1, np.radians(5.0)
"""Metres and radians: the size of the bins by which particles are counted."""
QUANTILE = float(ndtri(0.99))


def particles_needed(particles: FloatArray, drawn: NDArray[np.int64], error: float) -> float:
    """Return the `count_bound` for the bins of 0.1 m, 0.1 m and 5 degrees that drawn particles ``(N, 3)`` lie in."""
    return count_bound(occupied_bins(particles, drawn, BIN, BIN_TURN), error)


def count_bound(bins: int, error: float) -> float:
    """Return how many particles keep the cloud within `error` of the belief, 99 times in 100.

    The error is the Kullback-Leibler distance between the belief, spread over so many bins, and the cloud's shares.

    Notes
    -----
    Fox (2003), "Adapting the sample size in particle filters through KLD-sampling", equation 7.

    Examples
    --------
    >>> round(count_bound(100, 0.05))
    1347
    """
    if bins < 2:
        return 0.0
    freedom = bins - 1.0
    part = 2.0 / (9.0 * freedom)
    return freedom / (2.0 * error) * (1.0 - part + np.sqrt(part) * QUANTILE) ** 3


def low_variance_sample(weights: FloatArray, count: int, rng: np.random.Generator) -> NDArray[np.int64]:
    """Return the indices of `count` particles, drawn evenly spaced through the cumulated weights.

    Notes
    -----
    The low-variance sampler of Thrun, Burgard and Fox (2005), "Probabilistic Robotics", section 4.2.
    """
    return np.asarray(drawn_evenly(weights, rng.random(), count))
