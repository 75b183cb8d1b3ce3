"""Stamps that are not when their readings were taken: rows that overtook others, whole bundles, clocks set back."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

__all__ = ["Stamps", "guess_stamps", "mended_stamps"]

Stamps = Literal["each", "shuffled", "bundled", "set_back"]
FloatArray = NDArray[np.float64]
FEWEST_ROWS = 20
"""Rows that tell how they were stamped."""
AT_ONCE = 0.1
"""Share of the time between readings within which two of them arrived together."""
BUNDLED_SHARE = 0.3
"""Share of the rows that arrived with the one before, from which on they are bundled."""
ARRIVE_WITHIN = 1.0
"""Seconds within which the next bundle arrives: what pauses for longer was recorded in parts."""
OVERTAKES, SHUFFLED_SHARE = 5, 0.2
"""The most rows that one overtakes, and the largest share of rows that are out of order."""
MOST_SETS, LEAPS = 3, 0.5
"""The most times that a clock is set back, and the share of that by which no stamp may leap ahead: such rows are wrong
by themselves, and all is well after them."""
STEADY_SHARE = 0.99
"""Share of the steps, the shortest, by whose mean the time between readings is told: beyond are pauses."""


def mean_step(t: FloatArray) -> float:
    """Return how far stamps ``(N,)`` are apart on average, pauses aside; nan if nothing tells."""
    steps = np.diff(t)
    steps = steps[np.isfinite(steps) & (steps >= 0.0)]
    if len(steps) == 0:
        return float("nan")
    return float(np.mean(steps[steps <= np.quantile(steps, STEADY_SHARE, method="higher")]))


def guess_stamps(t: FloatArray) -> tuple[Stamps, str]:
    """Return how rows seem to have been stamped, by their stamps ``(N,)``, and why."""
    t = t[np.isfinite(t)]
    if len(t) < FEWEST_ROWS:
        return "each", ""
    steps = np.diff(t)
    back = steps < 0.0
    if np.any(back):
        overtaken = int(np.max(np.abs(np.argsort(t, kind="stable") - np.arange(len(t)))))
        if overtaken <= OVERTAKES and np.mean(back) <= SHUFFLED_SHARE:
            return "shuffled", f"{int(np.sum(back))} rows stand after later ones, by {overtaken} rows at most"
        return _guess_set_back(t)
    period = mean_step(t)
    together = steps < AT_ONCE * period
    if np.mean(together) < BUNDLED_SHARE or np.median(steps[~together]) > ARRIVE_WITHIN:
        return "each", ""
    size = len(t) / (len(t) - np.sum(together))
    return "bundled", f"rows came {size:.1f} at a time: stamped when they arrived, they were read {period:.3g} s apart"


def _guess_set_back(t: FloatArray) -> tuple[Stamps, str]:
    """Return whether the clock was set back while rows were stamped ``(N,)``, and why."""
    steps = np.diff(t)
    back = np.flatnonzero(steps < 0.0)
    least = float(np.min(-steps[back]))
    if len(back) > MOST_SETS or least <= OVERTAKES * mean_step(t) or np.max(steps) > LEAPS * least:
        return "each", ""
    when = ", ".join(f"by {-steps[row]:.2f} s after {t[row]:.2f} s" for row in back)
    return "set_back", f"the clock was set back {when}, and went on from there"


def mended_stamps(t: FloatArray, how: Stamps) -> tuple[NDArray[np.intp], FloatArray]:
    """Return in which order to take rows with stamps ``(N,)``, seconds, and their stamps in that order.

    After a clock was set back, stamps go on as if it had not been. A bundle's last row was read when it arrived, and
    the others evenly before it, no farther apart than rows are on average, and none before the bundle before it.

    >>> mended_stamps(np.array([0.0, 0.2, 0.1, 0.3]), "shuffled")[0].tolist()
    [0, 2, 1, 3]
    >>> mended_stamps(np.array([0.3, 0.3, 0.3, 0.6, 0.6, 0.6]), "bundled")[1].round(3).tolist()
    [0.1, 0.2, 0.3, 0.4, 0.5, 0.6]
    """
    rows = np.arange(len(t))
    if how == "each":
        return rows, t
    if how == "set_back":
        steps = np.diff(t, prepend=t[:1])
        return rows, t + np.cumsum(np.where(steps < 0.0, mean_step(t) - steps, 0.0))
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
