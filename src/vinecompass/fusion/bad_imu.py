"""An IMU that is worse than none: a gyro that hangs or turns the wrong way, accelerations in other units or axes."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.fusion.calibrating.turning import LEAST_TURN_RATE, HeadingSource, turn_ratio
from vinecompass.geometry import arc_velocity, relative
from vinecompass.odometry import laser_track, odometry_track
from vinecompass.runs import Run, rows_of
from vinecompass.runs.order import inside_spans, spans_of

__all__ = ["without_bad_accelerations", "without_bad_gyro"]

FloatArray = NDArray[np.float64]
SAME_FOR, OFF = 0.5, 0.15
"""Seconds of one reading, to the last digit, and radians that others turn meanwhile beyond it, from which a gyro is
frozen, and not only coarse."""
ALIKE = (0.7, 1.4)
"""Times as fast as another that what is right turns: coarse wheels and worn tyres allowed for."""
DEGREES = 180.0 / np.pi
SPAN, ABOUT = 0.5, 0.1
"""Seconds over which accelerations are compared, and those on either side over which a velocity is taken."""
FEWEST, SURE = 20, 0.1
"""Spans that are compared, and the standard error of a share to which it must be known, to judge accelerations."""
LIVELY = 0.08
"""m/s2 by which the wheels' accelerations must vary: below, their own scatter makes a share small."""
ALONG, ASIDE = (0.5, 2.0), (0.2, 2.0)
"""Shares of what the wheels tell that right accelerations have, ahead and to the left: wheels scatter in turns."""
HARDER = 1.5
"""Times what the drive can do beyond which an acceleration is none."""
ROUNDS, NORMAL = 5, 1.4826
"""Of a robust fit; and the standard deviation of normal errors, by the median of their absolute values."""
GRAVITY = 9.81
"""m/s2."""


def without_bad_gyro(run: Run) -> tuple[Run, tuple[str, ...]]:
    """Return a run without what its gyro should not have said, and what that is, in sentences.

    Left out are the readings of spans in which it is frozen, and all of them where it turns otherwise than wheels and
    scans do, which agree.
    """
    if run.imu is None or len(run.imu.t) < 2:
        return run, ()
    spans = _frozen_spans(run)
    left = ~inside_spans(run.imu.t, spans)
    notes = tuple(
        f"imu: the same turn rate to the last digit from {begin:.1f} to {end:.1f} s: left out meanwhile"
        for begin, end in spans
    )
    run = replace(run, imu=rows_of(run.imu, left) if np.sum(left) > 1 else None)
    wrong = _contradicted(run)
    return (replace(run, imu=None), (*notes, f"imu: {wrong}: left out")) if wrong else (run, notes)


def without_bad_accelerations(run: Run) -> tuple[Run, tuple[str, ...]]:
    """Return a run without accelerations that are not those of its wheels or odometry, and a sentence about them.

    Ahead, a robot is pushed as its wheels' speed changes, and to the left as it turns at a speed: a sensor whose unit,
    sign or axes are wrong shows another share of that. One that always says the same has no accelerometer.
    """
    imu = run.imu
    if imu is None or (run.wheels is None and run.odometry is None):
        return run, ()
    untold = np.full(len(imu.t), np.nan)
    without = replace(run, imu=replace(imu, acceleration_x=untold, acceleration_y=untold), as_recorded=True)
    if np.ptp(imu.acceleration_x) + np.ptp(imu.acceleration_y) == 0.0:
        return without, ()
    for way, share, bounds in zip(("ahead", "to the left"), _shares(run), (ALONG, ASIDE), strict=True):
        if not bounds[0] < share < bounds[1]:
            in_g = ", as if it counted in g" if ALONG[0] < share * GRAVITY < ALONG[1] else ""
            return without, (f"imu: its accelerations {way} are {share:.2f} times those of the wheels{in_g}: left out",)
    return run, ()


def _shares(run: Run) -> tuple[float, float]:
    """Return how many times as large as by the wheels the accelerations are, ahead and to the left; 1 if untold."""
    imu, track = run.imu, odometry_track(run)
    assert imu is not None
    edges = np.arange(max(imu.t[0], track.t[0]) + SPAN, min(imu.t[-1], track.t[-1]) - SPAN, SPAN)
    if len(edges) <= FEWEST:
        return 1.0, 1.0

    def velocity(t: FloatArray) -> FloatArray:
        return np.asarray(arc_velocity(relative(track.at(t + ABOUT), track.at(t - ABOUT))) / (2.0 * ABOUT))

    def mean(readings: FloatArray) -> FloatArray:
        pushed = np.cumsum(readings[1:] * np.diff(imu.t))
        return np.diff(np.interp(edges, imu.t[1:], pushed)) / SPAN

    between = velocity(0.5 * (edges[1:] + edges[:-1]))
    rolled = np.diff(velocity(edges)[:, 0]) / SPAN, between[:, 0] * between[:, 2]
    heading = run.robot.imu.mount_pose[2]
    cosine, sine = np.cos(heading), np.sin(heading)
    x, y = mean(imu.acceleration_x), mean(imu.acceleration_y)
    felt = cosine * x - sine * y, sine * x + cosine * y
    drive = run.robot.drive
    hardest = HARDER * max(drive.acceleration, drive.braking, drive.top_speed * drive.top_turn_rate)
    # Where wheels or an odometry leap, they push nobody.
    rolls = (np.abs(rolled[0]) < hardest) & (np.abs(rolled[1]) < hardest)
    if np.sum(rolls) <= FEWEST:
        return 1.0, 1.0
    return _share(felt[0][rolls], rolled[0][rolls]), _share(felt[1][rolls], rolled[1][rolls])


def _share(felt: FloatArray, rolled: FloatArray) -> float:
    """Return the slope of a robust line through values ``(N,)`` over others; 1 if it is not known well enough."""
    design, weights, slope, error = np.column_stack([rolled, np.ones(len(rolled))]), np.ones(len(rolled)), 1.0, np.inf
    for _ in range(ROUNDS):
        weighed = design * weights[:, None]
        line = np.linalg.lstsq(weighed, felt * weights, rcond=None)[0]
        off = felt - design @ line
        scatter = NORMAL * float(np.median(np.abs(off))) + 1e-6
        slope, error = float(line[0]), scatter * float(np.sqrt(np.linalg.pinv(weighed.T @ weighed)[0, 0]))
        weights = 1.0 / np.sqrt(1.0 + (off / (2.0 * scatter)) ** 2)
    return slope if 0.0 < error < SURE * max(abs(slope), 1.0) and rolled.std() > LIVELY else 1.0


def _frozen_spans(run: Run) -> FloatArray:
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
