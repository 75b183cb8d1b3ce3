"""Which settings matter: how the score goes with each of them, over all that was tried."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.stats import spearmanr

from vinecompass.settings import find_setting
from vinecompass.tuning.designs import Values
from vinecompass.tuning.front import burdens
from vinecompass.tuning.study import Study

__all__ = ["Effect", "best_values", "effects", "mean_cost"]

FEWEST = 5
"""Sets of values without which no effect is told."""
AS_GOOD = 0.7
"""Standard errors of a difference within which two sets do as well. What fails on one seed alone, out of however many,
differs by a whole one."""


@dataclass(frozen=True)
class Effect:
    """How the cost goes with a setting.

    Parameters
    ----------
    key : str
    rank_correlation : float
        Spearman's, -1 to 1, over the sets of values: above 0, more of the setting costs more.
    chance : float
        How likely chance alone makes one as large.
    best : (float, float)
        The least and the greatest value of the setting in the best quarter of what was tried.
    """

    key: str
    rank_correlation: float
    chance: float
    best: tuple[float, float]


def mean_cost(study: Study, values: Values) -> float:
    """Return the mean of the cost over the seeds; in the site where it is highest, if there are several."""
    return burdens(study, values, ["cost"])[0]


def best_values(study: Study) -> Values:
    """Return the set of values to be taken: of those that do as well as the one that costs least, the most usual.

    A few seeds do not tell the best from the next best. Of those that they do not tell apart, the one nearest to the
    settings' defaults, which stand on more drives than a study has, is least likely to owe its place to luck. The
    settings as they are need no such help, as they are tried again beside what is taken: they are returned where
    nothing costs less. Sets that were stopped early are none.

    Notes
    -----
    After the rule of one standard error of Breiman et al. (1984), "Classification and regression trees".
    """
    sets = study.tried_on_all_seeds()
    least = min(sets, key=lambda values: mean_cost(study, values))
    if not least:
        return least
    least_cost, of_least = mean_cost(study, least), study.of(least)

    def does_as_well(values: Values) -> bool:
        more = [cost - of_least[seed] for seed, cost in study.of(values).items()]
        error = float(np.std(more, ddof=1) / np.sqrt(len(more))) if len(more) > 1 else 0.0
        return mean_cost(study, values) - least_cost <= AS_GOOD * error

    return min((values for values in sets if values and does_as_well(values)), key=_off_defaults)


def _off_defaults(values: Values) -> float:
    """Return how far values are from the defaults of their settings, all in shares of what makes sense."""
    settings = [(find_setting(key), value) for key, value in values.items()]
    return sum(abs(one.span.share_of(value) - one.span.share_of(one.default)) for one, value in settings)


def effects(study: Study) -> list[Effect]:
    """Return the effect of each varied setting on the cost, the strongest first; none where too little was tried."""
    study = study.on_shared_seeds()
    tried = study.tried()
    keys = sorted({key for values in tried for key in values})
    if len(tried) < FEWEST:
        return []
    costs = np.array([mean_cost(study, values) for values in tried])
    quarter = np.argsort(costs, kind="stable")[: max(len(tried) // 4, 1)]
    found = []
    for key in keys:
        as_it_is = study.as_it_is(key)
        column = np.array([values.get(key, as_it_is) for values in tried])
        if np.ptp(costs) < 1e-12 or np.ptp(column) < 1e-12:
            correlation, chance = 0.0, 1.0
        else:
            correlation, chance = (float(each) for each in spearmanr(column, costs))
        best = column[quarter]
        found.append(Effect(key, correlation, chance, (float(best.min()), float(best.max()))))
    return sorted(found, key=lambda effect: -abs(effect.rank_correlation))
