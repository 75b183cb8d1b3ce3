"""Several measures at once: the sets of values than which none is better in one and no worse in the others."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.tuning.designs import Values
from vinecompass.tuning.study import Study

__all__ = ["burdens", "check_objectives", "front"]

LARGER_IS_BETTER = ("arrived", "clearance")
"""Measures that are to be large; all others are to be small."""


def check_objectives(study_measures: Sequence[str], objectives: Sequence[str]) -> None:
    """Raise `InputError` unless each objective is a measure, and none is named twice."""
    for number, objective in enumerate(objectives):
        if objective not in study_measures or objective in objectives[:number]:
            expected = f"each once of {', '.join(study_measures)}"
            raise InputError("is no objective", key="--objective", value=objective, expected=expected)


def burdens(study: Study, values: Values, objectives: Sequence[str]) -> list[float]:
    """Return the mean of each objective over the seeds, with what is to be large below 0: all is to be small.

    Of several sites it is that of the worst.
    """
    worst = []
    for objective in objectives:
        sign = -1.0 if objective in LARGER_IS_BETTER else 1.0
        means = [sign * np.mean(list(found.values())) for found in study.by_site(study.of(values, objective)) if found]
        worst.append(float(max(means, default=np.nan)))
    return worst


def front(study: Study, objectives: Sequence[str]) -> list[Values]:
    """Return the sets of values than which no other is better in one objective and no worse in the others.

    Those best in the first objective come first. Sets that were stopped early count for nothing.

    Parameters
    ----------
    study : Study
    objectives : sequence of str
        Names of measures: "arrived" and "clearance" are to be large, all others small.
    """
    tried = study.tried_on_all_seeds()
    points: NDArray[np.float64] = np.array([burdens(study, values, objectives) for values in tried])
    no_worse = np.all(points[:, None] <= points, axis=-1)
    better = np.any(points[:, None] < points, axis=-1)
    kept = np.flatnonzero(~np.any(no_worse & better, axis=0))
    order = kept[np.argsort(points[kept, 0], kind="stable")]
    return [tried[number] for number in order]
