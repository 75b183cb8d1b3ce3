"""How streams turn, beside each other: the same turning tells whose clock is off."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.odometry import dead_reckon, turned_by_gyro
from vinecompass.runs import Imu, Run, Track

__all__ = ["LEAST_TURN_RATE", "HeadingSource", "clock_offset", "late_scans", "turn_ratio"]

FloatArray = NDArray[np.float64]
FARTHEST_OFFSET, LEAST_TURN_RATE, LEAST_LIKENESS = 2.0, 0.06, 0.8
"""Seconds to look for a clock's offset within; rad/s (RMS) and correlation without which it cannot be told."""
PAUSE = 0.5
"""Seconds between two readings of a source over which its turning is not compared."""
LATE = 0.1
"""Seconds by which scans must be off not to be trusted: wheels that slip turn at other times, too."""


@dataclass(frozen=True)
class HeadingSource:
    """The heading by one stream: stamps ``(N,)``, s, and how far it has turned since the first of them, radians."""

    t: FloatArray
    turned: FloatArray

    @classmethod
    def from_track(cls, track: Track) -> HeadingSource:
        """Return the heading along a track."""
        return cls(track.t, np.unwrap(track.poses[:, 2]))

    @classmethod
    def from_imu(cls, imu: Imu) -> HeadingSource:
        """Return the heading by a gyro, bias and all."""
        return cls(imu.t, turned_by_gyro(imu))

    def rates(self, t: FloatArray, window: float = 0.2) -> FloatArray:
        """Return the mean turn rate in a window about each time ``(M,)``, rad/s."""
        ends = (np.interp(t + side * window / 2.0, self.t, self.turned) for side in (1.0, -1.0))
        return (next(ends) - next(ends)) / window


def turn_ratio(source: HeadingSource, other: HeadingSource) -> float:
    """Return how many times as fast `source` turns as `other`; `nan` where they do not turn together."""
    t = _common_times(source, other)
    t = t[_goes_on(source, t) & _goes_on(other, t)]
    if len(t) < 20:
        return float("nan")
    mine, theirs = source.rates(t), other.rates(t)
    likeness = np.corrcoef(mine, theirs)[0, 1] if mine.std() > 0.0 and theirs.std() > 0.0 else 0.0
    return float(np.sum(mine * theirs) / np.sum(theirs**2)) if abs(likeness) > LEAST_LIKENESS else float("nan")


def clock_offset(source: HeadingSource, other: HeadingSource) -> float | None:
    """Return by how many seconds the stamps of `source` are behind those of `other`, by cross-correlating turn rates.

    None where too little is turned to tell. Behind means that the stamps must grow to be right.
    """
    t = _common_times(source, other)
    step, most = 0.02, FARTHEST_OFFSET
    if len(t) < 100:
        return None
    mine, theirs = source.rates(t), other.rates(t)
    if min(mine.std(), theirs.std()) < LEAST_TURN_RATE:
        return None
    lags = np.arange(-round(most / step), round(most / step) + 1)
    inner = slice(len(lags) // 2, len(t) - len(lags) // 2)
    if inner.stop - inner.start < 100:
        return None
    likeness = _likeness(mine, theirs, lags, inner, np.ones(inner.stop - inner.start, dtype=bool))
    # Where the two differ even so, wheels slip: that would draw the offset with it, so look once more without.
    shift = lags[int(np.argmax(likeness))]
    alike = np.abs(theirs[inner] - mine[inner.start - shift : inner.stop - shift]) < 0.15
    if np.mean(alike) > 0.3:
        likeness = _likeness(mine, theirs, lags, inner, alike)
    best = int(np.argmax(likeness))
    if likeness[best] < LEAST_LIKENESS or not 0 < best < len(lags) - 1:
        return None
    left, top, right = likeness[best - 1 : best + 2]
    return float((lags[best] + 0.5 * (left - right) / (left - 2.0 * top + right)) * step)


def _goes_on(source: HeadingSource, t: FloatArray) -> NDArray[np.bool_]:
    """Return at which times ``(N,)`` a source does not pause: over a pause nobody knows when it turned."""
    after = np.clip(np.searchsorted(source.t, t), 1, len(source.t) - 1)
    return np.asarray(source.t[after] - source.t[after - 1] < PAUSE)


def _likeness(
    mine: FloatArray, theirs: FloatArray, lags: NDArray[np.int64], inner: slice, chosen: NDArray[np.bool_]
) -> FloatArray:
    """Return the correlation of two rates at each lag, over the chosen times."""
    steady = theirs[inner][chosen]
    shifted = (mine[inner.start - lag : inner.stop - lag][chosen] for lag in lags)
    return np.array([np.corrcoef(steady, rates)[0, 1] if rates.std() > 0.0 else 0.0 for rates in shifted])


def _common_times(source: HeadingSource, other: HeadingSource) -> FloatArray:
    begin, end = max(source.t[0], other.t[0]) + 0.1, min(source.t[-1], other.t[-1]) - 0.1
    return np.arange(begin, max(end, begin), 0.02)


def late_scans(run: Run, scanned: Track) -> tuple[str, ...]:
    """Return a sentence if the scans turn at another time than the gyro, or else the wheels; none if they do not.

    The track is the body's by laser odometry.
    """
    if run.imu is not None:
        name, other = "gyro", HeadingSource.from_imu(run.imu)
    elif run.wheels is not None:
        name, other = "wheels", HeadingSource.from_track(dead_reckon(run.wheels, run.robot.drive))
    else:
        return ()
    offset = clock_offset(HeadingSource.from_track(scanned), other)
    if offset is None or abs(offset) < LATE:
        return ()
    when = "before" if offset > 0.0 else "after"
    return (f"scans: they turn {abs(offset):.2f} s {when} the {name}: one of the two clocks is off",)
