"""A gyro that is worse than none: one that repeats a reading, or that turns otherwise than wheels and scans do."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.fusion.calibrating.turning import LEAST_TURN_RATE, HeadingSource, turn_ratio
from vinecompass.fusion.standing_wheels import inside_spans
from vinecompass.odometry import laser_track, odometry_track
from vinecompass.runs import Run, rows_of
from vinecompass.runs.order import spans_of

__all__ = ["frozen_spans", "without_bad_gyro"]

FloatArray = NDArray[np.float64]
SAME_FOR, OFF = 0.5, 0.15
"""Seconds of one reading, to the last digit, and radians that others turn meanwhile beyond it, from which a gyro is
frozen, and not only coarse."""
ALIKE = (0.7, 1.4)
"""Times as fast as another that what is right turns: coarse wheels and worn tyres allowed for."""
DEGREES = 180.0 / np.pi


def without_bad_gyro(run: Run) -> tuple[Run, tuple[str, ...]]:
    """Return a run without what its gyro should not have said, and what that is, in sentences.

    Left out are the readings of spans in which it is frozen, and all of them where it turns otherwise than wheels and
    scans do, which agree.
    """
    if run.imu is None or len(run.imu.t) < 2:
        return run, ()
    spans = frozen_spans(run)
    left = ~inside_spans(run.imu.t, spans)
    notes = tuple(
        f"imu: the same turn rate to the last digit from {begin:.1f} to {end:.1f} s: left out meanwhile"
        for begin, end in spans
    )
    run = replace(run, imu=rows_of(run.imu, left) if np.sum(left) > 1 else None)
    wrong = _contradicted(run)
    return (replace(run, imu=None), (*notes, f"imu: {wrong}: left out")) if wrong else (run, notes)


def frozen_spans(run: Run) -> FloatArray:
    """Return the spans ``(N, 2)`` in which the gyro gives one reading over and over, while wheels or scans turn."""
    assert run.imu is not None
    imu = run.imu
    spans = spans_of(imu.t[1:][np.diff(imu.turn_rate) == 0.0], apart=0.05, shortest=SAME_FOR)
    other = _other(run) if len(spans) else None
    if other is None:
        return np.zeros((0, 2))
    frozen = []
    for begin, end in spans:
        t = np.arange(begin, end, 0.1)
        read = imu.turn_rate[np.searchsorted(imu.t, begin)] * (t - begin)
        frozen.append(bool(np.ptp(np.interp(t, other.t, other.turned) - read) > OFF))
    return spans[np.array(frozen)]


def _other(run: Run) -> HeadingSource | None:
    """Return how wheels or odometry turn, or else the scans by themselves; None if there is nothing else."""
    if run.wheels is not None or run.odometry is not None:
        return HeadingSource.from_track(odometry_track(run))
    return None if run.scans is None else HeadingSource.from_track(laser_track(run)[0])


def _contradicted(run: Run) -> str:
    """Return in a clause how the gyro turns otherwise than wheels and scans do, which agree; empty if it does not.

    Scans are matched to each other by themselves, which takes time: only where the gyro and the wheels differ.
    """
    if run.imu is None or run.scans is None or (run.wheels is None and run.odometry is None):
        return ""
    gyro, wheels = HeadingSource.from_imu(run.imu), HeadingSource.from_track(odometry_track(run))
    both = wheels.t[(wheels.t > gyro.t[0]) & (wheels.t < gyro.t[-1])]
    if len(both) == 0 or wheels.rates(both).std() < LEAST_TURN_RATE or _alike(turn_ratio(gyro, wheels)):
        return ""
    scans = HeadingSource.from_track(laser_track(run)[0])
    ratio = turn_ratio(gyro, scans)
    if not _alike(turn_ratio(wheels, scans)) or _alike(ratio):
        return ""
    if np.isnan(ratio):
        return "it does not turn as wheels and scans do"
    in_degrees = ", as if it counted degrees" if _alike(abs(ratio) / DEGREES) else ""
    return f"it turns {ratio:.2f} times as fast as wheels and scans do{in_degrees}"


def _alike(ratio: float) -> bool:
    return ALIKE[0] < ratio < ALIKE[1]
