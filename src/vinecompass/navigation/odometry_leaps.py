"""Odometry that no base of this kind can have driven: in other units, or begun anew elsewhere."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose, inverse, wrap_angle
from vinecompass.robot import Drive
from vinecompass.runs import Track

__all__ = ["OdometryLeaps"]

FloatArray = NDArray[np.float64]
LEAP, TURN = 0.3, 0.5
"""Metres and radians from one row to the next that are a leap, besides what the base could do meanwhile."""
TIMES = 3.0
"""How many times as fast as it can a base may go by odometry that is driven by."""
PUSHED, TURNED = 1.5, 6.0
"""m/s and rad/s at which a person moves a robot, however slow it is by itself."""
AGAIN = 3
"""Times in a row that odometry goes too fast after which it is not driven by any more: who stands cannot tell."""
SAME_ROW = 1e-4
"""Seconds within which two stamps are of one row."""


class OdometryLeaps:
    """Carries the track frame on where odometry goes on from elsewhere, as where its program began anew.

    Parameters
    ----------
    drive : Drive
        What it can do tells a leap from a motion.
    """

    def __init__(self, drive: Drive) -> None:
        self._fastest = max(TIMES * drive.top_speed, PUSHED)
        self._fastest_turn = max(TIMES * drive.top_turn_rate, TURNED)
        self._leaps: list[tuple[float, FloatArray]] = []
        self._too_fast_times = 0
        self._unfit = ""

    def put_right(self) -> None:
        """Drive by the odometry again: someone has seen to it."""
        self._unfit = ""
        self._too_fast_times = 0

    def joined(self, odometry: Track) -> tuple[Track, str]:
        """Return odometry without its leaps, and why the robot must not be driven by it now; empty if it may.

        Parameters
        ----------
        odometry : Track
            Two rows or more with stamps that go on evenly, as they came.
        """
        t, poses = odometry.t, odometry.poses
        steps, durations = poses[1:] - poses[:-1], t[1:] - t[:-1]
        # Were all steps as long as the longest, and it would still be no faster: so it is in nearly every cycle.
        most = 2.0 * len(steps) * float(np.abs(steps).max()) / float(t[-1] - t[0])
        if not self._leaps and not self._unfit and most < min(self._fastest, self._fastest_turn):
            return odometry, ""
        ways, turns = np.hypot(steps[:, 0], steps[:, 1]), np.abs(wrap_angle(steps[:, 2]))
        leaps = (ways > LEAP + self._fastest * durations) | (turns > TURN + self._fastest_turn * durations)
        if np.count_nonzero(leaps) == 1:
            told = self._leapt(odometry, int(np.argmax(leaps)) + 1)
        else:
            told = self._too_fast(ways.sum() / durations.sum(), turns.sum() / durations.sum())
        return (Track(t, self._carried_on(t, poses)) if self._leaps else odometry), self._unfit or told

    def _leapt(self, odometry: Track, row: int) -> str:
        """Note a leap to a row, if it is new, and tell how far it went."""
        t, (before, after) = float(odometry.t[row]), odometry.poses[row - 1 : row + 1]
        if self._leaps and t <= self._leaps[-1][0] + SAME_ROW:
            return ""
        here = self._carried_on(odometry.t[row - 1 : row], before[None])[0]
        # Of older leaps, only the last still says where the rows before this one lie.
        self._leaps = [*self._leaps[-1:], (t, compose(here, inverse(after)))]
        x, y, turn = after - before
        return f"the odometry leaps by {np.hypot(x, y):.2f} m and {abs(np.degrees(wrap_angle(turn))):.0f} degrees"

    def _too_fast(self, speed: float, turn_rate: float) -> str:
        """Tell how fast the odometry goes, if no base of this kind does."""
        if speed > self._fastest:
            told = f"the odometry goes {speed:.3g} m/s: is it in metres?"
        elif turn_rate > self._fastest_turn:
            told = f"the odometry turns at {turn_rate:.3g} rad/s: is it in radians?"
        else:
            self._too_fast_times = 0
            return ""
        self._too_fast_times += 1
        if self._too_fast_times >= AGAIN:
            self._unfit = told
        return told

    def _carried_on(self, t: FloatArray, poses: FloatArray) -> FloatArray:
        """Return poses ``(N, 3)`` at stamps ``(N,)`` in the frame of those before the leaps."""
        joined = poses
        for leapt, shift in self._leaps:
            joined = np.where((t >= leapt - SAME_ROW)[:, None], compose(shift, poses), joined)
        return joined
