"""Readings on their way: each is handed over some time after it was taken."""

from __future__ import annotations

from typing import Generic

import numpy as np
from numpy.typing import NDArray

from vinecompass.runs import joined, rows_of
from vinecompass.runs.streams import OneStream

__all__ = ["Delivery"]

ON_TIME = 1e-9
"""Seconds by which a reading may be late and be on time: sums of time steps are not exact."""


class Delivery(Generic[OneStream]):
    """Hands readings over late, in the order in which they were taken.

    Parameters
    ----------
    delay : float
        From the reading until it is there, s.
    jitter : float
        By how much that varies: evenly from nothing to this, s.
    rng : Generator
    """

    def __init__(self, delay: float, jitter: float, rng: np.random.Generator) -> None:
        self._delay = delay
        self._jitter = jitter
        self._rng = rng
        self._due = np.zeros(0)
        self._waiting: OneStream | None = None

    def hand_over(self, now: float, taken: NDArray[np.float64], readings: OneStream) -> OneStream:
        """Take readings in with the times ``(N,)`` at which they were taken, s; return those that are there by now."""
        due = taken + self._delay
        if self._jitter > 0.0:
            due = due + self._jitter * self._rng.random(len(taken))
        due = np.maximum.accumulate(np.concatenate([self._due, due]))
        waiting = readings if self._waiting is None else joined([self._waiting, readings])
        there = due <= now + ON_TIME
        if there.all():
            self._due, self._waiting = np.zeros(0), None
            return waiting
        self._due, self._waiting = due[~there], rows_of(waiting, ~there)
        return rows_of(waiting, there)
