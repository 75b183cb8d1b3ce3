"""When to look elsewhere: the likelihood of late, compared with what it used to be."""

from __future__ import annotations

__all__ = ["LikelihoodAverages"]

SHORT_SHARE, LONG_SHARE = 0.3, 0.01
"""Shares by which one scan moves the averages: over some 3 scans, and over some 100."""
TOLERATED = 0.75
"""Of the long average, that the short one may fall to."""


class LikelihoodAverages:
    """Compares a short with a long running average of how likely scans are.

    Notes
    -----
    Augmented Monte Carlo localization (Gutmann and Fox, 2002; Thrun, Burgard and Fox, 2005, section 8.3.3).
    """

    def __init__(self) -> None:
        self._short = self._long = 0.0

    def update(self, likelihood: float, *, learn: bool) -> float:
        """Take in a scan's mean likelihood, and return what share of the particles should be drawn elsewhere, 0 to 1.

        Only while the pose is believed does the long average `learn`: it tells what scans of the true place are like.
        """
        if self._long == 0.0:
            self._short = self._long = likelihood
        self._short += SHORT_SHARE * (likelihood - self._short)
        if learn:
            self._long += LONG_SHARE * (likelihood - self._long)
        return max(0.0, 1.0 - self._short / (TOLERATED * self._long)) if self._long > 0.0 else 0.0
