"""Two sets of values on the same seeds: how they differ, how sure that is, and how many more trials would tell."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass
from math import isfinite

import numpy as np
from scipy.stats import bootstrap, norm
from scipy.stats import t as student

from vinecompass.door import checked
from vinecompass.errors import InputError

__all__ = ["CONFIDENCE", "FEWEST", "Comparison", "compare_values"]

CONFIDENCE = 0.95
RESAMPLES = 2000
FEWEST = 6
"""Pairs without which nothing is said: of five that differ by chance alone, all go the same way one time in sixteen."""
MOST_ASKED = 200
"""Pairs beyond which a difference is too small to be worth asking for more."""


@dataclass(frozen=True)
class Comparison:
    """How a second set of values differs from a first.

    Parameters
    ----------
    difference : float
        The mean of what is gained (below 0) or lost, seed by seed.
    low, high : float
        Its interval.
    pairs : int
        Seeds that both were tried on.
    more : int or None
        How many more would tell, if it stays as it is; 0 if it is told, None if that is more than it is worth.
    """

    difference: float
    low: float
    high: float
    pairs: int
    more: int | None

    @property
    def is_told(self) -> bool:
        """Whether the two differ beyond chance."""
        return self.pairs >= FEWEST and (self.low > 0.0 or self.high < 0.0)

    def __str__(self) -> str:
        if self.pairs < FEWEST:
            return f"{self.difference:+.3g} ({self.pairs} seeds: too few to tell)"
        said = f"{self.difference:+.3g} ({self.low:+.3g} to {self.high:+.3g}, {self.pairs} seeds)"
        if self.is_told:
            return said
        if self.more is None:
            return f"{said}: no difference seen"
        return f"{said}: no difference seen; {self.more} more seeds might tell"


@checked
def compare_values(
    first: Mapping[int, float], second: Mapping[int, float], confidence: float = CONFIDENCE
) -> Comparison:
    """Compare two results by seed; only seeds that both have count, so that what is alike in them cancels.

    The interval is that of a bootstrap over the seeds (Efron and Tibshirani, 1993), widened as it is too narrow for a
    few of them (Hesterberg, 2015).

    Parameters
    ----------
    first, second : dict of int to float
        Seeds at which one of them is `nan`, not measured, do not count.
    confidence : float
        How often the interval is to hold the truth, between 0 and 1.

    Raises
    ------
    InputError
        They have no seed in common.

    Examples
    --------
    >>> first = {1: 2.0, 2: 3.0, 3: 2.5, 4: 2.2, 5: 2.9, 6: 2.4}
    >>> compare_values(first, {seed: cost - 0.1 * seed for seed, cost in first.items()}).is_told
    True
    """
    if not 0.0 < confidence < 1.0:
        raise InputError("is no share", key="confidence", value=confidence, expected="between 0 and 1")
    seeds = sorted(seed for seed in first.keys() & second.keys() if isfinite(second[seed] - first[seed]))
    if not seeds:
        raise InputError("have no seed in common", key="values", expected="trials of both on the same seeds")
    gains = np.array([second[seed] - first[seed] for seed in seeds])
    mean = float(gains.mean())
    if len(seeds) < FEWEST:
        return Comparison(mean, -np.inf, np.inf, len(seeds), FEWEST - len(seeds))
    if np.ptp(gains) < 1e-12:
        return Comparison(mean, mean, mean, len(seeds), 0 if mean != 0.0 else None)
    interval = bootstrap(
        (gains,),
        np.mean,
        confidence_level=_widened(confidence, len(seeds)),
        n_resamples=RESAMPLES,
        method="percentile",
        rng=np.random.default_rng(0),
    ).confidence_interval
    low, high = float(interval.low), float(interval.high)
    told = low > 0.0 or high < 0.0
    # The interval narrows with the root of the number of seeds.
    wanted = len(seeds) * (0.5 * (high - low) / max(abs(mean), 1e-12)) ** 2
    more = 0 if told else None if wanted > MOST_ASKED else max(int(np.ceil(wanted)) - len(seeds), 1)
    return Comparison(mean, low, high, len(seeds), more)


def _widened(confidence: float, count: int) -> float:
    """Return the confidence to ask of a bootstrap of so many pairs, for that of Student's interval."""
    reach = student.ppf(0.5 * (1.0 + confidence), count - 1) * np.sqrt(count / (count - 1))
    return float(1.0 - 2.0 * norm.sf(reach))
