"""Dead reckoning: from wheel angles to a track."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from vinecompass.errors import InputError
from vinecompass.geometry import arc, wrap_angle
from vinecompass.robot import Drive
from vinecompass.runs import Run, Track, Wheels

__all__ = ["dead_reckon", "odometry_track"]


def dead_reckon(wheels: Wheels, drive: Drive, *, start: ArrayLike = (0.0, 0.0, 0.0)) -> Track:
    """Return the track of a differential drive from the angles its wheels have turned.

    Between readings both wheels turn evenly, so the body moves along an arc, which is followed exactly.

    Parameters
    ----------
    wheels : Wheels
    drive : Drive
    start : array_like, (3,)
        The pose at the first reading, m and radians.

    Examples
    --------
    >>> from vinecompass import demo_file, read_robot
    >>> drive = read_robot(demo_file("robot.toml")).drive
    >>> turned = np.array([0.0, 10.0])
    >>> track = dead_reckon(Wheels(np.array([0.0, 1.0]), turned, turned), drive)
    >>> bool(np.isclose(track.length, 10.0 * drive.wheel_radius))
    True
    """
    rolled = np.diff(np.stack([wheels.left, wheels.right]), axis=1) * drive.wheel_radius
    turn = (rolled[1] - rolled[0]) / drive.track_width
    steps = arc(np.stack([rolled.mean(0), np.zeros_like(turn), turn], axis=-1), 1.0)
    x, y, first_heading = np.asarray(start, dtype=float)
    headings = first_heading + np.concatenate([[0.0], np.cumsum(turn)])
    cosine, sine = np.cos(headings[:-1]), np.sin(headings[:-1])
    xs = x + np.concatenate([[0.0], np.cumsum(cosine * steps[:, 0] - sine * steps[:, 1])])
    ys = y + np.concatenate([[0.0], np.cumsum(sine * steps[:, 0] + cosine * steps[:, 1])])
    return Track(wheels.t, np.stack([xs, ys, wrap_angle(headings)], axis=-1))


def odometry_track(run: Run) -> Track:
    """Return a run's odometry in the track frame: its odometry stream, or else dead reckoning from its wheels."""
    if run.odometry is not None:
        return run.odometry
    if run.wheels is not None:
        return dead_reckon(run.wheels, run.robot.drive)
    raise InputError(
        "the run has neither odometry nor wheels", file=run.folder, key="odometry", expected="a table of one of them"
    )
