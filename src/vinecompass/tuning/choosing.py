"""From settings to vary to the best of what was tried, confirmed on seeds that did not choose it."""

from __future__ import annotations

from collections.abc import Callable

from vinecompass.errors import InputError
from vinecompass.settings import changed_settings
from vinecompass.tuning.designs import Values, Vary, unlike, values_to_try
from vinecompass.tuning.effects import best_values, mean_cost
from vinecompass.tuning.search import search_values
from vinecompass.tuning.study import Study, StudyRun
from vinecompass.tuning.trial import Kind, Trial

__all__ = ["choose_settings"]

FORBIDDEN = 100.0
"""The cost, of the bound, of values that do not go together: they are not driven."""
UNSEEN: dict[Kind, tuple[str, ...]] = {
    "mission": ("map",),
    "localization": ("map", "price", "plan", "drive"),
    "mapping": ("locate", "price", "plan", "drive"),
}
"""The steps whose settings a study does not see: a mission's and a localization's map is given."""


def choose_settings(
    study_run: StudyRun,
    varied: list[Vary],
    *,
    trials: int,
    seeds: int,
    design: str = "spread",
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
                expected="another setting",
            )
    asked: list[Trial] = []
    count = max(trials // seeds, 2)

    def run(sets: list[Values], on: range) -> Study:
        pairs = [(values, seed) for values in sets for seed in on]
        asked.extend(Trial(number, seed, values) for number, (values, seed) in enumerate(pairs, len(asked)))
        return study_run.run(asked, progress)

    def costs_of(sets: list[Values]) -> list[float]:
        known = [trial.values for trial in asked]
        allowed = [_is_allowed(study_run, values) for values in sets]
        good_ones = unlike([each for each, good in zip(sets, allowed, strict=True) if good])
        study = run([each for each in good_ones if each not in known], range(seeds))
        return [mean_cost(study, each) if good else FORBIDDEN for each, good in zip(sets, allowed, strict=True)]

    if design == "search":
        search_values(varied, count, costs_of, seed=seed)
    else:
        costs_of(values_to_try(varied, count, design=design, seed=seed))
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
