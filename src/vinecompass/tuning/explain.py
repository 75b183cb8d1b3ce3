"""What a study says: what to change, what it gains and costs, and how sure that is on seeds not used to choose."""

from __future__ import annotations

from dataclasses import dataclass, field
from math import isnan

import numpy as np

from vinecompass.errors import InputError
from vinecompass.tuning.comparison import CONFIDENCE, Comparison, compare_values
from vinecompass.tuning.designs import Values
from vinecompass.tuning.effects import Effect, best_values, effects
from vinecompass.tuning.study import Study

__all__ = ["Explanation", "compare_measures", "explain"]

WORTH = 0.01
"""Share of the cost that must be saved for a change to be worth it."""


@dataclass(frozen=True)
class Explanation:
    """What a study says.

    Parameters
    ----------
    best : dict of str to float
        The set of values to be taken, as in `best_values`; empty if the settings as they are cost least.
    changes : dict of str to Comparison
        Each of the measures with them, beside the settings as they are, on seeds that were not used to choose; none
        where there are no such trials.
    effects : list of Effect
        The strongest first.
    tried, seeds : int
        How many sets of values, on how many seeds.
    differs : bool
        Whether any set of values did anything else on any seed than the settings as they are, by any measure but time.
    saved : float
        Share of the cost that the best values save on seeds that were not used; `nan` where there are none.
    in_sites : dict of str to Comparison
        The cost with them in each site, where there are several.
    """

    best: Values
    changes: dict[str, Comparison]
    effects: list[Effect]
    tried: int
    seeds: int
    differs: bool
    saved: float
    in_sites: dict[str, Comparison] = field(default_factory=dict)

    @property
    def verdict(self) -> str:
        """What to do about the settings as they are, in a few words."""
        if not self.differs:
            return "nothing that was tried changes anything: what was varied may not be used here"
        if not self.best:
            return "the settings as they are do best of all that was tried"
        if self.is_better:
            return f"better by {100.0 * self.saved:.0f} % of the cost"
        is_told = "cost" in self.changes and self.changes["cost"].is_told and self.saved > 0.0
        return "nothing worth a change" if is_told and self.saved <= WORTH else "nothing surely better"

    @property
    def is_better(self) -> bool:
        """Whether the best values beat the settings as they are on other seeds, beyond chance, and worth a change.

        What is surely worse in one of several sites is not better.
        """
        harms = any(one.is_told and one.difference > 0.0 for one in self.in_sites.values())
        return "cost" in self.changes and self.changes["cost"].is_told and self.saved > WORTH and not harms


def explain(study: Study, seeds: int) -> Explanation:
    """Say what a study shows whose settings were chosen on the first seeds, and confirmed on those after them.

    Raises
    ------
    InputError
        No trial of the settings as they are is finished yet.
    """
    chosen_on = study.on_seeds(0, seeds)
    if not chosen_on.of({}):
        raise InputError("has no finished trial of the settings as they are", key="study", expected="the call to go on")
    best = best_values(chosen_on)
    last = max((trial.seed for trial in study.trials), default=0) + 1
    confirmed = study.on_seeds(seeds, last)
    changes, saved, in_sites = {}, float("nan"), {}
    if best and confirmed.of(best) and confirmed.of({}):
        changes = compare_measures(confirmed, best)
        if len(study.sites) > 1:
            as_is, with_best = (confirmed.by_site(confirmed.of(values)) for values in ({}, best))
            in_sites = {
                name: compare_values(before, after)
                for name, before, after in zip(study.sites, as_is, with_best, strict=True)
            }
        saved = -changes["cost"].difference / max(float(np.mean(list(confirmed.of({}).values()))), 1e-12)
    tried, differs = len(chosen_on.tried()), _differs(chosen_on)
    return Explanation(best, changes, effects(chosen_on), tried, seeds, differs, saved, in_sites)


def compare_measures(study: Study, values: Values, confidence: float = CONFIDENCE) -> dict[str, Comparison]:
    """Return how each measure changes from the settings as they are to a set of values, on a study's seeds.

    What is measured nowhere, as errors of runs without a truth, is left out.
    """
    pairs = {name: (study.of({}, name), study.of(values, name)) for name in study.measures}
    return {
        name: compare_values(before, after, confidence=confidence)
        for name, (before, after) in pairs.items()
        if not all(isnan(value) for value in after.values())
    }


def _differs(study: Study) -> bool:
    """Tell whether any set of values did anything else on any seed than the settings as they are."""
    for measure in study.measures.keys() - set(study.clocked):
        before = study.of({}, measure)
        for values in study.tried():
            after = study.of(values, measure)
            shared = sorted(before.keys() & after.keys())
            if not np.array_equal([before[k] for k in shared], [after[k] for k in shared], equal_nan=True):
                return True
    return False
