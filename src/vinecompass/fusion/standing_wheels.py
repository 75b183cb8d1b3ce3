"""Wheels that stand while the robot moves: a dead encoder, a cable come off, a base that is pushed."""

from __future__ import annotations

from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.odometry import laser_track
from vinecompass.runs import Run, rows_of
from vinecompass.runs.order import inside_spans, spans_of

__all__ = ["StandingWheels", "longest_part", "standing_wheels"]

FloatArray = NDArray[np.float64]
TURNS_ABOUT, ROLLS_SHARE, STANDS_APART = 2.0, 0.01, 1.0
"""Full turns about a wheel that no robot makes at a stretch; the share of the way that wheels which stand may roll even
so; and seconds between rows without a tick that are still one stretch."""
STANDS_FOR = 2.0
"""Seconds for which all wheels stand before it is asked whether the robot moves: the filter sees to shorter spans."""
MOVES, LEAST_WAY = 0.1, 0.5
"""m/s from which scans say that the robot moves, and metres that it must go where they show it well."""


@dataclass(frozen=True)
class StandingWheels:
    """A span in which wheels stand, or an odometry in their place does, though the robot moves.

    Parameters
    ----------
    source : str
        ``"wheels"`` or ``"odometry"``.
    wheel : str
        The one that stands while the other rolls on; empty if all do.
    begin, end : float
        s.
    way : float
        How far the other wheel rolls, or the robot goes by its scans, meanwhile, m.
    """

    source: str
    wheel: str
    begin: float
    end: float
    way: float

    def __str__(self) -> str:
        """Return it in a clause."""
        all_of = {"wheels": "the wheels stand", "odometry": "the odometry stands"}[self.source]
        who = f"the {self.wheel} wheel stands" if self.wheel else all_of
        by = "the other rolls" if self.wheel else "the scans go"
        return f"{who} from {self.begin:.1f} to {self.end:.1f} s while {by} {self.way:.1f} m"


def standing_wheels(run: Run) -> tuple[StandingWheels, ...]:
    """Return the spans in which wheels, or an odometry, stand though the robot moves, in the order of their time.

    One wheel gives itself away by how far the other rolls: no robot turns about a wheel for so long. All of them, or an
    odometry, are compared with the run's scans, if it has any, which are matched to each other by themselves; from the
    moment on at which those begin to move.
    """
    found = [*_one_wheel(run)]
    if run.wheels is not None:
        rolled = np.abs(np.diff(run.wheels.angles, axis=0)).max(axis=1) * run.robot.drive.wheel_radius
        found += _all_of("wheels", run.wheels.t, rolled, run)
    elif run.odometry is not None:
        rolled = np.hypot(*np.diff(run.odometry.poses[:, :2], axis=0).T)
        turned = np.abs(np.diff(run.odometry.poses[:, 2]))
        found += _all_of("odometry", run.odometry.t, rolled + turned, run)
    return tuple(sorted(found, key=lambda each: each.begin))


def longest_part(t: FloatArray, spans: FloatArray) -> slice:
    """Return the rows of the longest part of a stream with stamps ``(N,)`` that lies outside spans ``(M, 2)``.

    >>> longest_part(np.arange(6.0), np.array([[0.5, 1.5]]))
    slice(2, 6, None)
    """
    cuts = np.flatnonzero(np.concatenate([[True], inside_spans(t, spans), [True]]))
    longest = int(np.argmax(np.diff(cuts)))
    return slice(int(cuts[longest]), int(cuts[longest + 1]) - 1)


def _one_wheel(run: Run) -> list[StandingWheels]:
    """Return spans in which one of two wheels stands for so long that no robot turns about it."""
    wheels, drive = run.wheels, run.robot.drive
    if wheels is None or drive.steered or len(drive.wheel_names) != 2:
        return []
    rolled = np.abs(np.diff(wheels.angles, axis=0)) * drive.wheel_radius
    about = 2.0 * np.pi * (drive.track_width or 1.0)
    found = []
    for wheel, name in enumerate(drive.wheel_names):
        for begin, end in spans_of(wheels.t[1:][rolled[:, wheel] == 0.0], apart=STANDS_APART):
            during = (wheels.t[1:] >= begin) & (wheels.t[1:] <= end)
            own, other = rolled[during, wheel].sum(), float(rolled[during, 1 - wheel].sum())
            if other > TURNS_ABOUT * about and own < ROLLS_SHARE * other:
                found.append(StandingWheels("wheels", name, float(begin), float(end), other))
    return found


def _all_of(source: str, t: FloatArray, rolled: FloatArray, run: Run) -> list[StandingWheels]:
    """Return spans in which what rolls ``(N - 1,)`` between stamps ``(N,)`` stands, but the scans go."""
    found = []
    for begin, end in spans_of(t[1:][rolled == 0.0], apart=STANDS_APART, shortest=STANDS_FOR):
        moving = _moves(run, float(begin), float(end))
        during = (t[1:] >= begin) & (t[1:] <= end)
        if moving is not None and rolled[during].sum() < ROLLS_SHARE * moving[1]:
            found.append(StandingWheels(source, "", moving[0], float(end), moving[1]))
    return found


def _moves(run: Run, begin: float, end: float) -> tuple[float, float] | None:
    """Return when scans begin to move within a span, s, and how far they go, m; None if they do not show it well."""
    scans = run.scans
    inside = np.zeros(0) if scans is None else np.flatnonzero((scans.t >= begin) & (scans.t <= end))
    if scans is None or len(inside) < 2:
        return None
    _, motions = laser_track(replace(run, scans=rows_of(scans, inside)))
    speeds = np.array([np.hypot(*motion.velocity[:2]) for motion in motions])
    ways = np.where(speeds > MOVES, speeds, 0.0) * np.gradient(scans.t[inside])
    shown = np.array([motion.degenerate is None for motion in motions])
    if ways[shown].sum() < LEAST_WAY:
        return None
    return float(scans.t[inside][np.argmax(ways > 0.0)]), float(ways.sum())
