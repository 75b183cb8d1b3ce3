"""Two settings files against each other on the same seeds, until the answer stands."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from typing import Literal

import numpy as np

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.settings import Settings, changed_settings
from vinecompass.tuning.comparison import CONFIDENCE, FEWEST, Comparison
from vinecompass.tuning.designs import Values
from vinecompass.tuning.explain import WORTH, compare_measures
from vinecompass.tuning.study import Study, StudyRun
from vinecompass.tuning.trial import Trial

__all__ = ["Verdict", "check_comparison", "compare_settings", "verdict"]

FIRST_LOOK = 8
"""Seeds after which two settings are looked at first; then after twice as many each time."""


@dataclass(frozen=True)
class Verdict:
    """What comes of other settings in place of those as they are, on the same seeds.

    Parameters
    ----------
    values : dict of str to number, text or list
        What differs, by its key.
    word : {"better", "worse", "alike", "open"}
        By the cost: beyond chance, or the same to a hundredth of it; or neither can be said yet.
    changes : dict of str to Comparison
        Each measure with them, less what it is without.
    before : dict of str to float
        The mean of each measure without them.
    """

    values: Values
    word: Literal["better", "worse", "alike", "open"]
    changes: dict[str, Comparison]
    before: dict[str, float]


@checked
def compare_settings(
    study_run: StudyRun, values: Values, *, trials: int, progress: Callable[[float, str], None] | None = None
) -> Study:
    """Drive with the settings as they are and with other ones, both on the same seeds, until the answer stands.

    Parameters
    ----------
    study_run : StudyRun
    values : dict of str to number, text or list
        What differs, by its key.
    trials : int
        Rehearsals at most, of both together.
    progress : callable, optional
        Called with the share done of what is known to come, 0 to 1, and a word.

    Raises
    ------
    InputError
        Nothing differs, a value is not allowed, or the trials are too few to tell anything.
    """
    check_comparison(study_run.case.settings, values, trials)
    for pairs in _looks(trials // 2):
        asked = [(seed, one) for seed in range(pairs) for one in ({}, values)]
        study = study_run.run([Trial(number, seed, one) for number, (seed, one) in enumerate(asked)], progress)
        if verdict(study, trials).word != "open":
            break
    return study


def check_comparison(settings: Settings, values: Values, trials: int) -> None:
    """Raise `InputError` if nothing differs, a value is not allowed, or so many trials tell nothing."""
    if not values:
        raise InputError("are the same", key="settings", expected="two settings that differ")
    if trials < 2 * FEWEST:
        raise InputError("tell nothing", key="trials", value=trials, expected=f"{2 * FEWEST} or more, of both together")
    changed_settings(settings, values)


def verdict(study: Study, trials: int) -> Verdict:
    """Say what a comparison of at most so many trials shows so far.

    Who looks again and again sees chance differ sooner or later: each look takes its share of the one time in twenty
    (Bonferroni's inequality).

    Raises
    ------
    InputError
        No trial of one of the two is finished yet.
    """
    confidence = 1.0 - (1.0 - CONFIDENCE) / len(_looks(trials // 2))
    values = next((one for one in study.tried() if one), {})
    changes = compare_measures(study, values, confidence)
    before = {name: float(np.mean(list(study.of({}, name).values()))) for name in changes}
    cost, alike = changes["cost"], WORTH * before["cost"]
    if cost.is_told and cost.difference < 0.0:
        return Verdict(values, "better", changes, before)
    if cost.is_told and cost.difference > 0.0:
        return Verdict(values, "worse", changes, before)
    settled = cost.pairs >= FEWEST and -alike < cost.low and cost.high < alike
    return Verdict(values, "alike" if settled else "open", changes, before)


def _looks(most: int) -> list[int]:
    """Return after how many seeds two settings are looked at."""
    counts = [FIRST_LOOK]
    while counts[-1] < most:
        counts.append(2 * counts[-1])
    return [*counts[:-1], most]
