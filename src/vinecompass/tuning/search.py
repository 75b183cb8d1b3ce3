"""Search for the values whose cost is lowest, by what was found so far."""

from __future__ import annotations

from collections.abc import Callable
from typing import Any

from vinecompass.errors import InputError
from vinecompass.tuning.designs import Values, Vary, as_tried, unlike

__all__ = ["search_values"]

BATCH = 8
"""Sets of values that are asked for together, however many workers there are: a search is the same on any machine."""
AT_RANDOM = 16
"""Sets before the search goes by what it found."""


def search_values(
    varied: list[Vary],
    count: int,
    costs_of: Callable[[list[Values]], list[list[float]]],
    *,
    as_they_are: Values | None = None,
    objectives: int = 1,
    seed: int = 0,
) -> list[Values]:
    """Search among values of settings; return all that were tried, the settings as they are first, then the defaults.

    With several objectives it looks for their front: sets than which none is better in one and no worse in the others.

    Parameters
    ----------
    varied : list of Vary
    count : int
        Sets of values to try, at most.
    costs_of : callable
        Returns the costs of each of some sets of values, one for each objective.
    as_they_are : dict of str to float, optional
        The values of the settings as they are, by their keys; where one is left out, its default.
    objectives : int
    seed : int

    Raises
    ------
    InputError
        Optuna is not installed.

    Notes
    -----
    Tree-structured Parzen estimators (Bergstra, Bardenet, Bengio and Kegl, 2011; of several objectives: Ozaki et al.,
    2020), by Optuna.

    Examples
    --------
    >>> comfort = Vary.parse("costs.comfort=0.2..1.0")
    >>> def costs_of(sets):
    ...     return [[abs(one.get("costs.comfort", 0.6) - 0.3)] for one in sets]
    >>> tried = search_values([comfort], 40, costs_of)
    >>> min(abs(one.get("costs.comfort", 0.6) - 0.3) for one in tried) < 0.03
    True
    """
    optuna = _optuna()
    distributions = {vary.setting.key: _distribution(optuna, vary) for vary in varied}
    sampler = optuna.samplers.TPESampler(seed=seed, n_startup_trials=AT_RANDOM, constant_liar=True)
    study = optuna.create_study(sampler=sampler, directions=["minimize"] * objectives)
    defaults: Values = {vary.setting.key: vary.setting.default for vary in varied}
    as_they_are = defaults | (as_they_are or {})
    tried: list[Values] = [{}]
    if as_they_are != defaults and _are_within(varied, defaults):
        tried.append(defaults)
    for values, costs in zip(tried, costs_of(tried), strict=True):
        params = as_they_are | values
        if _are_within(varied, params):
            study.add_trial(optuna.trial.create_trial(params=params, distributions=distributions, values=costs))
    # Of whole numbers the same may be asked for again: it counts, or a search among a few would not end.
    for first in range(len(tried), count, BATCH):
        batch = min(BATCH, count - first)
        asked = [study.ask(distributions) for _ in range(batch)]
        sets = [as_tried(varied, one.params) for one in asked]
        for one, found in zip(asked, costs_of(sets), strict=True):
            study.tell(one, found)
        tried += sets
    return unlike(tried)


def _are_within(varied: list[Vary], values: Values) -> bool:
    """Tell whether each of the values is within what its setting is varied between."""
    return all(vary.low <= values[vary.setting.key] <= vary.high for vary in varied)


def _optuna() -> Any:
    try:
        import optuna
    except ImportError:
        raise InputError(
            "needs the package Optuna", key="design", value="search", expected="pip install 'vinecompass[tune]'"
        ) from None
    optuna.logging.set_verbosity(optuna.logging.ERROR)
    return optuna


def _distribution(optuna: Any, vary: Vary) -> Any:
    """Return the values that a setting may have, as Optuna has it."""
    logarithmic = vary.setting.span.logarithmic
    if vary.setting.whole:
        return optuna.distributions.IntDistribution(round(vary.low), round(vary.high), log=logarithmic)
    return optuna.distributions.FloatDistribution(vary.low, vary.high, log=logarithmic and vary.low > 0.0)
