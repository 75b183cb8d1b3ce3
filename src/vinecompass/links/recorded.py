"""A recorded run played as if it were live."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.door import checked
from vinecompass.links.link import Readings
from vinecompass.motion import Command
from vinecompass.odometry import odometry_track
from vinecompass.runs import Run, Track

__all__ = ["RecordedLink"]


class RecordedLink:
    """Gives one scan of a run after the other, whatever is commanded: to localize and plan as on that day.

    Let the navigator `hold`: one that drives is stopped by its watch, as the odometry does not do what it commands.

    Each comes when the next one was begun, so that it is whole by then.

    Parameters
    ----------
    run : Run
        With scans.
    odometry : Track, optional
        In place of the run's own, or of its wheels dead reckoned.

    Raises
    ------
    InputError
        The run has no scans, or neither odometry nor wheels.
    """

    @checked
    def __init__(self, run: Run, *, odometry: Track | None = None) -> None:
        self._run = run
        self._scans = run.need_scans()
        self._odometry = odometry if odometry is not None else odometry_track(run)
        self._played = 0
        self._period = 1.0 / run.robot.scanner.rate

    def exchange(self, command: Command) -> Readings:
        """Return the next scan, and the odometry until the one after it."""
        index = min(self._played, len(self._scans) - 1)
        self._played += 1
        scan = self._scans[index]
        until = int(np.searchsorted(self._odometry.t, self.t + 1e-9, side="right"))
        since = max(int(np.searchsorted(self._odometry.t, scan.t, side="right")) - 1, 0)
        part = slice(min(since, max(until - 1, 0)), max(until, 1))
        odometry = Track(self._odometry.t[part], self._odometry.poses[part])
        last = self._played >= len(self._scans)
        return Readings(self.t, {self._run.robot.scanner.name: scan}, odometry, last=last)

    @property
    def t(self) -> float:
        """The run's own time by now, s: that of the scan that has just begun."""
        if self._played < len(self._scans):
            return float(self._scans.t[self._played])
        return float(self._scans.t[-1]) + self._period

    @property
    def pose(self) -> NDArray[np.float64]:
        """The true pose ``(3,)`` at this time, `nan` where the run does not carry the truth."""
        truth = self._run.truth
        return np.full(3, np.nan) if truth is None else truth.at([self.t])[0]

    @property
    def contacts(self) -> int:
        """None that a run tells of."""
        return 0

    @property
    def velocities(self) -> NDArray[np.float64]:
        """None: a run does not carry them."""
        return np.zeros((0, 3))

    def run(self, site_toml: str | None = None) -> Run:
        """Return the run."""
        return self._run if site_toml is None else replace(self._run, site_toml=site_toml)
