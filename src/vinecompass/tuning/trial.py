"""A trial: certain settings and a certain seed; and the case in which it is tried."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal, Protocol

from vinecompass.door import checked
from vinecompass.settings import Settings, Value
from vinecompass.tuning.score import Score

__all__ = ["Case", "Kind", "Trial", "new_seeds"]

Kind = Literal["mission", "localization", "mapping", "plan"]
"""What is tried in a study."""


@checked
@dataclass(frozen=True)
class Trial:
    """One of a study.

    Parameters
    ----------
    number : int
    seed : int
        Of all that is drawn.
    values : dict of str to number, text or list
        What is changed in the case's settings, by its key.
    """

    number: int
    seed: int
    values: dict[str, Value]


CONFIRMED_ON = 5
"""Seeds on which the best is confirmed, besides as many as it was chosen on."""


def new_seeds(seeds: int) -> range:
    """Return the seeds that confirm what was chosen on so many, where each draws all anew."""
    return range(seeds, 2 * seeds + CONFIRMED_ON)


class Case(Protocol):
    """What all trials of a study share, and how one is tried: a round driven, recorded runs, plans on a map."""

    @property
    def kind(self) -> Kind:
        """What is tried."""

    @property
    def settings(self) -> Settings:
        """In which a trial changes some values."""

    def bound(self) -> float:
        """Return what scores are beside, as the least time for a round; reckoned once a study."""

    def confirming(self, seeds: int) -> range:
        """Return the seeds that confirm what was chosen on so many."""

    def run(self, trial: Trial, bound: float) -> Score:
        """Try and judge; the same trial gives the same score, wherever it runs."""
