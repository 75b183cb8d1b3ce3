"""What a study says: what to change, what it gains and costs, and how sure that is on seeds not used to choose."""

from __future__ import annotations

from dataclasses import dataclass

from vinecompass.errors import InputError
from vinecompass.tuning.comparison import Comparison, compare_values
from vinecompass.tuning.effects import Effect, best_values, effects
from vinecompass.tuning.study import Study

__all__ = ["MEASURES", "Explanation", "explain"]

MEASURES = {
    "cost": "cost, of the bound",
    "arrived": "share that arrives",
    "time": "time, s",
    "least_clearance": "least clearance, m",
    "contacts": "cycles in contact",
    "interventions": "interventions",
    "turns_about": "turns about",
    "stops": "stops without need",
    "estimate_error": "localization error, m",
}
"""What is told of a change: the score's own name and what it is, with its unit."""


@dataclass(frozen=True)
class Explanation:
    """What a study says.

    Parameters
    ----------
    best : dict of str to float
        The set of values whose cost is lowest; empty if the settings as they are do best.
    changes : dict of str to Comparison
        Each of the `MEASURES` with them, beside the settings as they are, on seeds that were not used to choose; none
        where there are no such trials.
    effects : list of Effect
        The strongest first.
    tried, seeds : int
        How many sets of values, on how many seeds.
    """

    best: dict[str, float]
    changes: dict[str, Comparison]
    effects: list[Effect]
    tried: int
    seeds: int

    @property
    def is_better(self) -> bool:
        """Whether the best values beat the settings as they are, beyond chance, on seeds not used."""
        return "cost" in self.changes and self.changes["cost"].is_told and self.changes["cost"].difference < 0.0


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
    changes = {}
    if best and confirmed.of(best) and confirmed.of({}):
        changes = {
            measure: compare_values(confirmed.of({}, measure), confirmed.of(best, measure)) for measure in MEASURES
        }
    return Explanation(best, changes, effects(chosen_on), len(chosen_on.tried()), seeds)
