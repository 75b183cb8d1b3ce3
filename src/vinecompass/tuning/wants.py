"""What an engineer wants of a mission, which values do all of it, and which wants exclude each other."""

from __future__ import annotations

import json
import re
from dataclasses import dataclass, fields
from itertools import combinations

import numpy as np

from vinecompass.errors import InputError
from vinecompass.tuning.designs import Values
from vinecompass.tuning.effects import mean_cost
from vinecompass.tuning.study import SCORES, Study

__all__ = ["Answer", "Want", "answer_wants"]

MEASURES = sorted(
    {field.name for kind in SCORES.values() for field in fields(kind) if field.name not in ("reason", "passed")},
)


@dataclass(frozen=True)
class Want:
    """A bound on a measure of the score, that every trial is to keep, or a place that each is to come through.

    Parameters
    ----------
    measure : str
        One of the score's names; "passed" of a place.
    at_least : bool
        Whether the bound is a lower one.
    bound : float
    place : str
        Name of one of the site's zones, floors or stops.
    """

    measure: str
    at_least: bool
    bound: float
    place: str = ""

    @classmethod
    def parse(cls, text: str) -> Want:
        """Return what ``MEASURE >= NUMBER``, ``MEASURE <= NUMBER`` or ``passes 'NAME'`` means.

        >>> Want.parse("clearance >= 0.25").at_least
        True
        >>> Want.parse("passes 'cellar door'").place
        'cellar door'
        """
        passes = re.fullmatch(r"""\s*passes\s+(['"])(.+)\1\s*""", text)
        if passes:
            return cls("passed", True, 1.0, passes[2])
        found = re.fullmatch(r"\s*(\w+)\s*(>=|<=)\s*([-+.\deE]+)\s*", text)
        try:
            measure, sign, bound = found.groups() if found else ("", "", "")
            number = float(bound)
        except ValueError:
            measure = ""
        if measure not in MEASURES:
            raise InputError(
                "is not a want",
                key="--want",
                value=text,
                expected=f"passes 'NAME', or MEASURE >= NUMBER or <=, of {', '.join(MEASURES)}",
            )
        return cls(measure, sign == ">=", number)

    def __str__(self) -> str:
        if self.place:
            return f"passes '{self.place}'"
        return f"{self.measure} {'>=' if self.at_least else '<='} {self.bound:g}"

    def met(self, study: Study, values: Values) -> bool:
        """Tell whether every trial with a set of values keeps the bound, or comes through the place."""
        if self.place:
            return all(self.place in passed for passed in passed_places(study, values))
        found = np.array(list(study.of(values, self.measure).values()))
        return bool(np.all(found >= self.bound if self.at_least else found <= self.bound))


def passed_places(study: Study, values: Values) -> list[list[str]]:
    """Return the names of the places that each trial with a set of values came through.

    Raises
    ------
    InputError
        In what is tried there is nothing to come through.
    """
    if study.kind != "mission":
        raise InputError("belongs to missions", key="--want", value="passes", expected="a measure")
    return [
        json.loads(str(getattr(score, "passed", "[]")))
        for trial, score in zip(study.trials, study.scores, strict=True)
        if trial.values == values
    ]


@dataclass(frozen=True)
class Answer:
    """Which values do what is wanted.

    Parameters
    ----------
    all_met : list of dict
        The sets of values with which every trial does all of it, the one of least cost first.
    alone : list of int
        With how many sets each want is met.
    exclude : list of (Want, Want)
        Pairs of wants that some set meets each of, and none both.
    """

    all_met: list[Values]
    alone: list[int]
    exclude: list[tuple[Want, Want]]


def answer_wants(study: Study, wants: list[Want]) -> Answer:
    """Find the values among those tried that do what is wanted."""
    tried = study.tried()
    met = np.array([[want.met(study, values) for values in tried] for want in wants])
    whole = [tried[i] for i in np.flatnonzero(met.all(axis=0))]
    exclude = [
        (wants[i], wants[j])
        for i, j in combinations(range(len(wants)), 2)
        if met[i].any() and met[j].any() and not np.any(met[i] & met[j])
    ]
    return Answer(sorted(whole, key=lambda values: mean_cost(study, values)), met.sum(axis=1).tolist(), exclude)
