"""Pauses in which nothing came at all, as when a log was sent by radio: what wheels tell of them comes first."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.fusion.kernels import LONG_PAUSE
from vinecompass.runs import Run

__all__ = ["bridged"]

JUST_BEFORE = 1e-4
"""Seconds before the first reading after a pause at which wheels and odometry tell of the pause."""


def bridged(run: Run) -> Run:
    """Return a run whose wheels and odometry have a reading at the end of each pause of all streams.

    They tell how far the robot went meanwhile, but as a rule an IMU or a scan comes before them: without what they
    tell, the robot would be thought to have gone on as it did, and corrected along a straight line.
    """
    read = [stream.t for name, stream in run.streams().items() if name not in ("truth", "commands")]
    stamps = np.unique(np.concatenate(read))
    resumed = stamps[1:][np.diff(stamps) > LONG_PAUSE] - JUST_BEFORE
    wheels, odometry = run.wheels, run.odometry
    if wheels is not None and len(ends := _within(resumed, wheels.t)):
        t = np.union1d(wheels.t, ends)
        angles = np.stack([np.interp(t, wheels.t, one) for one in wheels.angles.T], axis=-1)
        steering = None if wheels.steering is None else np.interp(t, wheels.t, wheels.steering)
        wheels = replace(wheels, t=t, angles=angles, steering=steering)
    if odometry is not None and len(ends := _within(resumed, odometry.t)):
        t = np.union1d(odometry.t, ends)
        odometry = replace(odometry, t=t, poses=odometry.at(t), covariances=None, states=None, summed_steps=None)
    return replace(run, wheels=wheels, odometry=odometry)


def _within(ends: NDArray[np.float64], t: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the ends of pauses in which a stream with stamps ``(N,)`` paused as well, and went on after."""
    after = np.searchsorted(t, ends)
    inside = (after > 0) & (after < len(t))
    ends, after = ends[inside], after[inside]
    return ends[t[after] - t[after - 1] > LONG_PAUSE]
