"""Which settings matter: how the score goes with each of them, over all that was tried."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.stats import spearmanr

from vinecompass.tuning.designs import Values
from vinecompass.tuning.front import burdens
from vinecompass.tuning.study import Study

__all__ = ["Effect", "best_values", "effects", "mean_cost"]

FEWEST = 5
"""Sets of values without which no effect is told."""


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
    """Return the set of values whose cost is lowest on average; of equals, the one tried first.

    Sets that were stopped early are none.
    """
    return min(study.tried_on_all_seeds(), key=lambda values: mean_cost(study, values))


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
