"""From settings to vary to the best of what was tried, confirmed on seeds that did not choose it."""

from __future__ import annotations

from collections.abc import Callable, Sequence

from vinecompass.errors import InputError
from vinecompass.settings import changed_settings
from vinecompass.tuning.designs import Values, Vary, unlike, values_to_try
from vinecompass.tuning.effects import best_values, mean_cost
from vinecompass.tuning.front import burdens, check_objectives, front
from vinecompass.tuning.search import search_values
from vinecompass.tuning.study import SCORES, Study, StudyRun
from vinecompass.tuning.trial import Kind, Trial

__all__ = ["choose_settings"]

FORBIDDEN = 100.0
"""The cost, of the bound, of values that do not go together: they are not driven."""
FINALISTS = 0.25
"""Share of the sets that a search tried, the best on its first seeds, that go on to all the others."""
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
        A search looks on half of the seeds. The best of what it tried and the settings as they are go on to the
        others, so that what is chosen was good on seeds that did not lead the search to it (successive halving:
        Jamieson and Talwalkar, 2016).
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
                expected="another setting",
            )
    check_objectives(list(SCORES[case.kind].MEASURES), objectives)
    asked: list[Trial] = []

    def run(sets: list[Values], on: range) -> Study:
        pairs = [(values, seed) for values in sets for seed in on]
        asked.extend(Trial(number, seed, values) for number, (values, seed) in enumerate(pairs, len(asked)))
        return study_run.run(asked, progress)

    def tried(sets: list[Values], on: range) -> tuple[Study, list[bool]]:
        """Try those sets that go together and are new on some seeds; return which go together."""
        known = [trial.values for trial in asked]
        allowed = [_is_allowed(study_run, values) for values in sets]
        good_ones = unlike([each for each, good in zip(sets, allowed, strict=True) if good])
        return run([each for each in good_ones if each not in known], on), allowed

    def costs_of(sets: list[Values]) -> list[list[float]]:
        study, allowed = tried(sets, range(first_seeds))
        none = [FORBIDDEN] * len(objectives)
        return [burdens(study, each, objectives) if good else none for each, good in zip(sets, allowed, strict=True)]

    chosen_from = Study(case.kind, study_run.made_of, [], [])
    sites = len(chosen_from.sites)
    # In each site alike.
    first_seeds = max(seeds // 2 // sites, 1) * sites
    if design == "search":
        rest = seeds - first_seeds
        # The settings as they are go on to the others besides.
        count = max(int((trials - rest) / (first_seeds + FINALISTS * rest)), 2)
        as_they_are = {vary.setting.key: chosen_from.as_it_is(vary.setting.key) for vary in varied}
        search_values(varied, count, costs_of, as_they_are=as_they_are, objectives=len(objectives), seed=seed)
        run(_finalists(run([], range(0)), objectives), range(first_seeds, seeds))
    else:
        tried(values_to_try(varied, max(trials // seeds, 2), design=design, seed=seed), range(seeds))
    chosen_on = run([], range(0))
    best = best_values(chosen_on)
    return run([{}, best], case.confirming(seeds)) if best else chosen_on


def _finalists(study: Study, objectives: Sequence[str]) -> list[Values]:
    """Return the settings as they are, the front of the objectives, and those sets of values that cost least."""
    tried = sorted(study.tried(), key=lambda values: mean_cost(study, values))
    return unlike([{}, *front(study, objectives), *tried[: max(int(FINALISTS * len(tried)), 1)]])


def _is_allowed(study_run: StudyRun, values: Values) -> bool:
    """Tell whether values go together, as least and most do."""
    try:
        changed_settings(study_run.case.settings, values)
    except InputError:
        return False
    return True
