"""How long a base takes to do what it is told, and how far it still goes on by what it was told before."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import arc, compose
from vinecompass.motion import Command

__all__ = ["CommandDelay"]

FloatArray = NDArray[np.float64]
CANDIDATES = np.arange(0.0, 0.65, 0.05)
"""Seconds from a command to its effect that are compared."""
REMEMBERED = 10.0
"""Seconds over which the comparison forgets."""
ENOUGH_CHANGE = 0.4
"""How much the velocity must have changed, (m/s)2 summed over cycles, before what was measured is believed."""
TURNING_ARM = 0.3
"""Metres by which a turn rate is compared with speeds."""


class CommandDelay:
    """Compares what was commanded with what is measured, and tells by how much the base lags behind.

    A base with a first-order lag is taken for one that does everything later by so much: for commands that change
    smoothly the difference is small.

    Parameters
    ----------
    filed : float
        What the robot file says, delay and lag together, s; it holds until the motion has told.

    Attributes
    ----------
    seconds : float
        What it is taken to be now.
    known : bool
        Whether the motion has told.
    """

    def __init__(self, filed: float) -> None:
        self.seconds = filed
        self.known = False
        self._stamps = np.array([-np.inf])
        self._velocities = np.zeros((1, 3))
        self._errors = np.zeros(len(CANDIDATES))
        self._change = 0.0

    def sent(self, t: float, command: Command) -> None:
        """Note a command given at a time, s."""
        last_needed = self._index(t - CANDIDATES[-1] - 1.0)
        self._stamps = np.concatenate([self._stamps[last_needed:], [t]])
        self._velocities = np.vstack([self._velocities[last_needed:], command.velocity])

    def applied(self, command: Command) -> None:
        """Note what the base made of the last command."""
        self._velocities[-1] = command.velocity

    def observe(self, t: float, elapsed: float, measured: FloatArray, span: float) -> None:
        """Compare the body's mean velocity ``(3,)`` over the last `span` seconds with what was commanded before."""
        moments = t - CANDIDATES[:, None] - span * np.array([0.1, 0.5, 0.9])
        in_force = np.maximum(np.searchsorted(self._stamps, moments, side="right") - 1, 0)
        expected = self._velocities[in_force].mean(axis=1) * [1.0, 1.0, TURNING_ARM]
        keep = np.exp(-elapsed / REMEMBERED)
        self._errors = keep * self._errors + np.sum((expected - measured * [1.0, 1.0, TURNING_ARM]) ** 2, axis=1)
        self._change = keep * self._change + float(np.ptp(expected, axis=0).max() ** 2)
        if self._change > ENOUGH_CHANGE:
            self.known = True
            self.seconds = _lowest(self._errors)

    def in_force(self, t: float) -> FloatArray:
        """Return the velocity ``(3,)`` of the command that the base follows at a time, s."""
        return self._velocities[self._index(t - self.seconds)]

    def way(self, t: float) -> FloatArray:
        """Return the motion ``(3,)``, in the body's frame now, until a command given now takes hold."""
        begin = t - self.seconds
        first = self._index(begin)
        changes = np.array([begin, *self._stamps[first + 1 :], t])
        step = np.zeros(3)
        for velocity, duration in zip(self._velocities[first:], np.diff(changes).tolist(), strict=True):
            if duration > 0.0:
                step = compose(step, arc(velocity, duration))
        return step

    def _index(self, t: float) -> int:
        """Return which command was the last at a time, s."""
        return max(int(np.searchsorted(self._stamps, t, side="right")) - 1, 0)


def _lowest(errors: FloatArray) -> float:
    """Return where errors at the candidates are lowest, by the parabola through the lowest and its neighbours."""
    best = int(np.argmin(errors))
    if not 0 < best < len(errors) - 1:
        return float(CANDIDATES[best])
    left, middle, right = errors[best - 1 : best + 2]
    curved = left - 2.0 * middle + right
    shift = 0.5 * (left - right) / curved if curved > 0.0 else 0.0
    return float(CANDIDATES[best] + shift * (CANDIDATES[1] - CANDIDATES[0]))
