"""Runs whose stamps count from long before them, as a computer's clock does from 1970, told from when they begin."""

from __future__ import annotations

from dataclasses import dataclass, replace
from datetime import UTC, datetime
from math import floor, inf
from typing import TYPE_CHECKING

if TYPE_CHECKING:
    from pathlib import Path

    from vinecompass.runs import Run, Track

__all__ = ["Clock", "read_told_run"]

LONG_BEFORE = 1e6
"""Seconds from which on the first stamp counts from another time than the run's own begin."""
LAST_DATE = 4e9
"""Seconds since 1970 beyond which a stamp is no date."""


@dataclass(frozen=True)
class Clock:
    """When the stamps of a run are told from.

    Parameters
    ----------
    begins : float
        What is taken off each stamp, whole seconds; 0 where they are told as they are.
    """

    begins: float

    def recorded(self, run: Run) -> Run:
        """Return a run that is told with its stamps as they were recorded, to be written."""
        return run.shifted(self.begins) if self.begins else run

    def recorded_track(self, track: Track) -> Track:
        """Return a track of a run that is told with the stamps of what was recorded, to be written."""
        return replace(track, t=track.t + self.begins) if self.begins else track

    def sentences(self) -> list[str]:
        """Return a sentence that says when times are told from; none where they are told as they are."""
        if not self.begins:
            return []
        date = f" ({datetime.fromtimestamp(self.begins, UTC):%Y-%m-%d %H:%M:%S} UTC)" if self.begins < LAST_DATE else ""
        return [f"times are seconds after {self.begins:.0f} s{date}, when the run begins; files keep its stamps"]


def read_told_run(path: Path) -> tuple[Run, Clock]:
    """Read a run as it was recorded; return it with its stamps as they are told, and when they are told from."""
    from vinecompass.runs import read_run

    run = read_run(path, as_recorded=True)
    clock = Clock(float(floor(run.begins)) if LONG_BEFORE < run.begins < inf else 0.0)
    return (run.shifted(-clock.begins) if clock.begins else run), clock
