"""How long a robot stays at it on the way to one stop: waiting is cheap, but every mission ends."""

from __future__ import annotations

from math import isnan

__all__ = ["Patience"]

NEARER = 0.5
"""Metres less of the way that count as having come nearer."""
SLOW_SHARE = 0.25
"""Share of the top speed that a detour is granted time by."""


class Patience:
    """Counts from when a trouble began, and since when the robot has not come nearer to its stop.

    Parameters
    ----------
    top_speed : float
        Of the drive, m/s.
    """

    def __init__(self, top_speed: float) -> None:
        self._pace = SLOW_SHARE * top_speed
        self.restart()

    def restart(self) -> None:
        """Begin with another stop."""
        self._trouble_since: float | None = None
        self._nearest = float("inf")
        self._nearest_at: float | None = None
        self._longest = 0.0

    def gone_on(self) -> None:
        """Note that the last trouble is over."""
        self._trouble_since = None

    def lasts(self, t: float, seconds: float) -> bool:
        """Tell whether a trouble has lasted for less than so many seconds; it begins with the first call."""
        if self._trouble_since is None:
            self._trouble_since = t
        return t - self._trouble_since < seconds

    def worn_out(self, t: float, left: float, seconds: float) -> str:
        """Take in how far it is still, m; return what is said where it has not come nearer for too long.

        A detour is granted the time that it takes at a quarter of the top speed. `nan` is not known, and tells nothing.
        """
        if isnan(left):
            return ""
        if self._nearest_at is None or left < self._nearest - NEARER:
            self._nearest, self._nearest_at, self._longest = left, t, left
        self._longest = max(self._longest, left)
        allowed = seconds + self._longest / self._pace
        if t - self._nearest_at < allowed:
            return ""
        return f"for {allowed:.0f} s it has not come nearer than {self._nearest:.1f} m"
