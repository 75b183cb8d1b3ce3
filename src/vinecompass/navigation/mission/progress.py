"""Progress: whether the robot gets nearer to where its plan leads, or stands, or dithers; and at what pace."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import distance_along, wrap_heading

__all__ = ["Pace", "ProgressWatch", "StandingWatch"]

GONE_ON = 1.0
"""Metres after a recovery from which it counts as having helped: the next trouble begins at the first one again."""
ONE_PLACE = 0.05
"""Metres within which it stands at the same place."""
PACE_OVER = 5.0
"""Seconds over which the pace is averaged."""


class ProgressWatch:
    """Watches the way that is left, and the turning where there is none.

    Parameters
    ----------
    patience : float
        Seconds without progress that are allowed.
    step : float
        What counts as progress: metres of plan, or radians turned.
    """

    def __init__(self, patience: float, step: float) -> None:
        self._patience = patience
        self._step = step
        self._since = -np.inf
        self._left = np.inf
        self._heading = 0.0
        self._turned = 0.0
        self._recovered_at: NDArray[np.float64] | None = None
        self.moved_since_recovery = True

    def goes_on(self, t: float, pose: NDArray[np.float64], remaining: NDArray[np.float64]) -> bool:
        """Take the pose and the plan's poses still ahead ``(M, 3)``; return False if there was none for too long."""
        left = float(distance_along(remaining)[-1]) if len(remaining) > 1 else 0.0
        if len(remaining):
            left += float(np.hypot(*(remaining[0, :2] - pose[:2])))
        # Turning is progress too, but not for ever: more than a turn and a half on one spot is none.
        turned = abs(wrap_heading(float(pose[2]) - self._heading))
        if np.isnan(self._left):
            self._left = left
        if left < self._left - self._step or not np.isfinite(self._since):
            self._left = left
            self._heading = float(pose[2])
            self._turned = 0.0
            self._since = t
        elif turned > self._step and self._turned < 3.0 * np.pi:
            self._heading = float(pose[2])
            self._since = t
            self._turned += turned
        if self._recovered_at is not None and np.hypot(*(pose[:2] - self._recovered_at[:2])) > GONE_ON:
            self._recovered_at = None
            self.moved_since_recovery = True
        return t - self._since < self._patience

    def replanned(self) -> None:
        """Another plan may be longer: what is left is measured anew, the patience goes on."""
        self._left = np.nan

    def restart(self, t: float) -> None:
        """Begin again with all patience."""
        self._since = t
        self._left = np.inf
        self._turned = 0.0

    def recovered(self, pose: NDArray[np.float64]) -> None:
        """Note where a recovery ended."""
        self._recovered_at = pose
        self.moved_since_recovery = False


class StandingWatch:
    """Tells when a robot has stood for a while on its way: once for each place.

    Parameters
    ----------
    patience : float
        Seconds of standing.
    """

    def __init__(self, patience: float) -> None:
        self._patience = patience
        self._since: float | None = None
        self._told_at: NDArray[np.float64] | None = None

    def stands_too_long(self, t: float, pose: NDArray[np.float64], standing: bool) -> bool:
        """Take the pose ``(3,)``, and whether it stands though it has a way to go."""
        if not standing:
            self._since = None
            return False
        self._since = t if self._since is None else self._since
        if t - self._since < self._patience:
            return False
        if self._told_at is not None and np.hypot(*(pose[:2] - self._told_at[:2])) < ONE_PLACE:
            return False
        self._since, self._told_at = None, pose
        return True


class Pace:
    """The speed averaged over the last seconds of driving."""

    def __init__(self) -> None:
        self._speed = 0.0

    def take(self, velocity: NDArray[np.float64], seconds: float) -> None:
        """Take in the velocity ``(3,)`` of some seconds of driving."""
        share = 1.0 if self._speed == 0.0 else 1.0 - np.exp(-seconds / PACE_OVER)
        self._speed += share * (float(np.hypot(velocity[0], velocity[1])) - self._speed)

    def seconds_for(self, metres: float) -> float:
        """Return how long a way takes at this pace, s; `nan` before it has driven."""
        return metres / self._speed if self._speed > 0.0 else float("nan")
