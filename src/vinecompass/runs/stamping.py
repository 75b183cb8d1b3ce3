"""Stamps of readings that were not stamped where they were taken: rows that overtook others, and whole bundles."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

__all__ = ["Stamps", "guess_stamps", "mended_stamps"]

Stamps = Literal["each", "shuffled", "bundled"]
FloatArray = NDArray[np.float64]
FEWEST_ROWS = 20
"""Rows that tell how they were stamped."""
AT_ONCE = 0.1
"""Share of the time between readings within which two of them arrived together."""
BUNDLED_SHARE = 0.3
"""Share of the rows that arrived with the one before, from which on they are bundled."""
OVERTAKES, SHUFFLED_SHARE = 5, 0.2
"""The most rows that one overtakes, and the largest share of rows that are out of order: beyond, the clock was set."""
STEADY_SHARE = 0.99
"""Share of the steps, the shortest, by whose mean the time between readings is told: beyond are pauses."""


def mean_step(t: FloatArray) -> float:
    """Return how far stamps ``(N,)`` are apart on average, pauses aside; nan if nothing tells."""
    steps = np.diff(t)
    steps = steps[np.isfinite(steps) & (steps >= 0.0)]
    if len(steps) == 0:
        return float("nan")
    return float(np.mean(steps[steps <= np.quantile(steps, STEADY_SHARE)]))


def guess_stamps(t: FloatArray) -> tuple[Stamps, str]:
    """Return how rows seem to have been stamped, by their stamps ``(N,)``, and why."""
    t = t[np.isfinite(t)]
    if len(t) < FEWEST_ROWS:
        return "each", ""
    back = np.diff(t) < 0.0
    if np.any(back):
        overtaken = int(np.max(np.abs(np.argsort(t, kind="stable") - np.arange(len(t)))))
        if overtaken <= OVERTAKES and np.mean(back) <= SHUFFLED_SHARE:
            return "shuffled", f"{int(np.sum(back))} rows stand after later ones, by {overtaken} rows at most"
        return "each", ""
    period = mean_step(t)
    together = np.diff(t) < AT_ONCE * period
    if np.mean(together) < BUNDLED_SHARE:
        return "each", ""
    size = len(t) / (len(t) - np.sum(together))
    return "bundled", f"rows came {size:.1f} at a time: stamped when they arrived, they were read {period:.3g} s apart"


def mended_stamps(t: FloatArray, how: Stamps) -> tuple[NDArray[np.intp], FloatArray]:
    """Return in which order to take rows with stamps ``(N,)``, seconds, and their stamps in that order.

    A bundle's last row was read when it arrived, and the others evenly before it, no farther apart than the rows
    are on average, and none before the bundle that came earlier.

    >>> mended_stamps(np.array([0.0, 0.2, 0.1, 0.3]), "shuffled")[0].tolist()
    [0, 2, 1, 3]
    >>> mended_stamps(np.array([0.3, 0.3, 0.3, 0.6, 0.6, 0.6]), "bundled")[1].round(3).tolist()
    [0.1, 0.2, 0.3, 0.4, 0.5, 0.6]
    """
    rows = np.arange(len(t))
    if how == "each":
        return rows, t
    rows = np.argsort(t, kind="stable")
    t = t[rows]
    return (rows, t) if how == "shuffled" else (rows, _spread(t))


def _spread(t: FloatArray) -> FloatArray:
    """Return stamps that go up ``(N,)`` with those of each bundle spread over the time since the bundle before."""
    steps = np.diff(t)
    begins = np.flatnonzero(np.append(True, ~(steps < AT_ONCE * mean_step(t))))
    ends = np.append(begins[1:], len(t)) - 1
    sizes = ends - begins + 1
    arrived = t[ends]
    waited = np.append(np.nan, np.diff(arrived)) / sizes
    usual = float(np.nanmedian(waited)) if len(waited) > 1 else 0.0
    apart = np.fmin(waited, usual)
    bundle = np.repeat(np.arange(len(begins)), sizes)
    return np.asarray(arrived[bundle] - (ends[bundle] - np.arange(len(t))) * apart[bundle])
