"""Which values of the settings are tried: one setting at a time, all combinations, or spread evenly over all."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import product
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.stats import qmc

from vinecompass.errors import InputError
from vinecompass.settings import TunableSetting, find_setting
from vinecompass.settings.tuned import Span

__all__ = ["DESIGNS", "Values", "Vary", "as_tried", "unlike", "values_to_try"]

FloatArray = NDArray[np.float64]
Values = dict[str, Any]
"""Values of settings, by their keys: numbers, where they are varied."""
DESIGNS = ("spread", "one-by-one", "grid")
"""How values may be chosen."""


@dataclass(frozen=True)
class Vary:
    """A setting to be varied between two values.

    Parameters
    ----------
    setting : TunableSetting
    low, high : float
    """

    setting: TunableSetting
    low: float
    high: float

    @classmethod
    def parse(cls, text: str) -> Vary:
        """Return what ``KEY`` or ``KEY=LOW..HIGH`` means; the key alone stands for the values that make sense.

        >>> vary = Vary.parse("costs.comfort=0.2..1.0")
        >>> vary.setting.key, vary.low, vary.high
        ('costs.comfort', 0.2, 1.0)
        """
        key, _, between = text.partition("=")
        setting = find_setting(key.strip())
        if not between:
            return cls(setting, setting.span.low, setting.span.high)
        try:
            low, high = (float(end) for end in between.split(".."))
        except ValueError:
            raise InputError("is not a range", key=key, value=between, expected="LOW..HIGH, as 0.2..1.0") from None
        span = setting.span
        if not low < high:
            raise InputError("is upside down or empty", key=key, value=between, expected="LOW below HIGH")
        if not (span.low <= low and high <= span.high):
            raise InputError(
                "reaches beyond what makes sense", key=key, value=between, expected=f"{span.low:g}..{span.high:g}"
            )
        return cls(setting, low, high)

    def at(self, shares: FloatArray) -> list[float]:
        """Return the values at shares ``(N,)`` of the way from low to high, by factors where those matter."""
        values = Span(self.low, self.high, self.setting.span.logarithmic).at(shares)
        return [self.written(value) for value in values.tolist()]

    def written(self, value: float) -> float:
        """Return a value as it is tried: enough digits to tell it from others, few enough to be read and typed."""
        return round(value) if self.setting.whole else float(f"{value:.4g}")


def values_to_try(varied: list[Vary], count: int, *, design: str = "spread", seed: int = 0) -> list[Values]:
    """Return `count` different sets of values at most; the first is empty, for the settings as they are.

    Parameters
    ----------
    varied : list of Vary
    count : int
    design : {"spread", "one-by-one", "grid"}
        Evenly over all settings together (a Sobol sequence), each setting on its own, or all combinations.
    seed : int

    Raises
    ------
    InputError
        Nothing is varied, a setting twice, the design is unknown, or there are too few for it.

    Examples
    --------
    >>> tried = values_to_try([Vary.parse("costs.comfort=0.2..1.0")], 4, design="one-by-one")
    >>> [values.get("costs.comfort") for values in tried]
    [None, 0.2, 0.6, 1.0]
    """
    keys = [vary.setting.key for vary in varied]
    if not keys:
        raise InputError("nothing is varied", key="vary", expected="a setting and its range")
    if len(set(keys)) < len(keys):
        raise InputError("is varied twice", key=next(key for key in keys if keys.count(key) > 1), expected="once")
    if design not in DESIGNS:
        raise InputError("is not a design", key="design", value=design, expected=", ".join(DESIGNS))
    if design == "spread":
        # A Sobol sequence is even where its length is a power of two: what is beyond the count is left out.
        power = max(int(np.ceil(np.log2(max(count - 1, 1)))), 0)
        shares = qmc.Sobol(len(varied), rng=np.random.default_rng(seed)).random_base2(power)[: count - 1]
        columns = [vary.at(column) for vary, column in zip(varied, shares.T, strict=True)]
        tried = [dict(zip(keys, row, strict=True)) for row in zip(*columns, strict=True)]
    elif design == "one-by-one":
        each = _at_least_two((count - 1) // len(varied), design)
        tried = [{vary.setting.key: value} for vary in varied for value in vary.at(np.linspace(0.0, 1.0, each))]
    else:
        each = _at_least_two(int((count - 1) ** (1.0 / len(varied)) + 1e-9), design)
        axes = [vary.at(np.linspace(0.0, 1.0, each)) for vary in varied]
        tried = [dict(zip(keys, row, strict=True)) for row in product(*axes)]
    return unlike([{}, *tried])


def unlike(sets: list[Values]) -> list[Values]:
    """Return sets of values, each once, in the order in which they came first."""
    return [values for i, values in enumerate(sets) if values not in sets[:i]]


def as_tried(varied: list[Vary], values: Values) -> Values:
    """Return a set of values as it is tried."""
    return {vary.setting.key: vary.written(values[vary.setting.key]) for vary in varied}


def _at_least_two(each: int, design: str) -> int:
    if each < 2:
        raise InputError("leaves fewer than two values of each setting", key="design", value=design, expected="more")
    return each
