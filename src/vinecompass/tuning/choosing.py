"""From settings to vary to the best of what was tried, confirmed on seeds that did not choose it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np

from vinecompass.errors import InputError
from vinecompass.settings import changed_settings
from vinecompass.tuning.designs import Values, Vary, unlike, values_to_try
from vinecompass.tuning.effects import best_values, mean_cost
from vinecompass.tuning.front import burdens, check_objectives
from vinecompass.tuning.search import search_values
from vinecompass.tuning.study import SCORES, Study, StudyRun
from vinecompass.tuning.trial import Kind, Trial

__all__ = ["choose_settings"]

FORBIDDEN = 100.0
"""The cost, of the bound, of values that do not go together: they are not driven."""
STOPPED_ABOVE = 1.3
"""Times the least cost so far from which on a search stops trying a set of values on half of the seeds."""
UNSEEN: dict[Kind, tuple[str, ...]] = {
    "mission": ("map",),
    "localization": ("map", "price", "plan", "drive"),
    "mapping": ("locate", "price", "plan", "drive"),
    "plan": ("fuse", "map", "locate", "price", "drive"),
}
"""The steps whose settings a study does not see: a mission's and a localization's map is given, and a plan's floor."""


def choose_settings(
    study_run: StudyRun,
    varied: list[Vary],
    *,
    trials: int,
    seeds: int,
    design: str = "spread",
    objectives: Sequence[str] = ("cost",),
    seed: int = 0,
    progress: Callable[[float, str], None] | None = None,
) -> Study:
    """Try values of settings, each set on the same seeds, then the best and the settings as they are on new ones.

    Parameters
    ----------
    study_run : StudyRun
    varied : list of Vary
    trials : int
        Rehearsals to choose by.
    seeds : int
        Of them for each set of values.
    design : {"spread", "one-by-one", "grid", "search"}
        A search stops early on sets of values that do badly: they are not tried on all seeds.
    objectives : sequence of str
        Measures that a search goes by: with several, it looks for their front. What is best is told by the cost.
    seed : int
        Of the design.
    progress : callable, optional
        Called with the share done of what is known to come, 0 to 1, and a word.

    Raises
    ------
    InputError
        A setting has no effect on what is tried; or as `values_to_try` and `StudyRun.run` do.
    """
    case = study_run.case
    for vary in varied:
        if vary.setting.again in UNSEEN[case.kind]:
            raise InputError(
                f"has no effect on a {case.kind}, as it is tried here",
                key="--vary",
                value=vary.setting.key,
                expected="another setting, or rehearsals in a site (`vinecompass import site` makes one of a map)",
            )
    check_objectives(list(SCORES[case.kind].MEASURES), objectives)
    asked: list[Trial] = []
    count = max(trials // seeds, 2)

    def run(sets: list[Values], on: range) -> Study:
        pairs = [(values, seed) for values in sets for seed in on]
        asked.extend(Trial(number, seed, values) for number, (values, seed) in enumerate(pairs, len(asked)))
        return study_run.run(asked, progress)

    def tried(sets: list[Values], *, early: int) -> tuple[Study, list[bool]]:
        """Try those sets that go together and are new, first on so many seeds; return which go together."""
        known = [trial.values for trial in asked]
        allowed = [_is_allowed(study_run, values) for values in sets]
        good_ones = unlike([each for each, good in zip(sets, allowed, strict=True) if good])
        new = [each for each in good_ones if each not in known]
        study = run(new, range(early))
        if early < seeds:
            best = min((mean_cost(study, each) for each in study.tried_on_all_seeds()), default=np.inf)
            new = [each for each in new if mean_cost(study, each) <= STOPPED_ABOVE * best]
            study = run(new, range(early, seeds))
        return study, allowed

    def costs_of(sets: list[Values]) -> list[list[float]]:
        study, allowed = tried(sets, early=first_seeds if asked else seeds)
        none = [FORBIDDEN] * len(objectives)
        return [burdens(study, each, objectives) if good else none for each, good in zip(sets, allowed, strict=True)]

    chosen_from = Study(case.kind, study_run.made_of, [], [])
    sites = len(chosen_from.sites)
    # In each site alike.
    first_seeds = max(seeds // 2 // sites, 1) * sites
    if design == "search":
        as_they_are = {vary.setting.key: chosen_from.as_it_is(vary.setting.key) for vary in varied}
        search_values(varied, count, costs_of, as_they_are=as_they_are, objectives=len(objectives), seed=seed)
    else:
        tried(values_to_try(varied, count, design=design, seed=seed), early=seeds)
    chosen_on = run([], range(0))
    best = best_values(chosen_on)
    return run([{}, best], case.confirming(seeds)) if best else chosen_on


def _is_allowed(study_run: StudyRun, values: Values) -> bool:
    """Tell whether values go together, as least and most do."""
    try:
        changed_settings(study_run.case.settings, values)
    except InputError:
        return False
    return True
