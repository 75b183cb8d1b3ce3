"""What a trial is judged by: the base of all scores."""

from __future__ import annotations

from dataclasses import dataclass
from typing import ClassVar

__all__ = ["Score"]


@dataclass(frozen=True, kw_only=True)
class Score:
    """What came of a trial.

    Parameters
    ----------
    cost : float
        What is to be small.
    """

    MEASURES: ClassVar[dict[str, str]] = {"cost": "cost"}
    """What is told of a change: the score's own name and what it is, with its unit."""
    CLOCKED: ClassVar[tuple[str, ...]] = ()
    """Measures that a clock tells: never the same twice, so kept apart from all that is."""

    cost: float
