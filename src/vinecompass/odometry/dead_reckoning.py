"""Dead reckoning: from wheel angles to a track."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import arc, chain, checked_pose
from vinecompass.motion import body_velocity
from vinecompass.robot import Drive
from vinecompass.runs import Imu, Run, Track, Wheels
from vinecompass.runs.streams import check_wheels

__all__ = ["dead_reckon", "odometry_track", "turned_by_gyro", "wheel_ways"]


@checked
def dead_reckon(wheels: Wheels, drive: Drive, *, start: ArrayLike = (0.0, 0.0, 0.0)) -> Track:
    """Return the track of a drive from the angles its wheels have turned.

    Between readings every wheel turns evenly, so the body moves along an arc, which is followed exactly.

    Parameters
    ----------
    wheels : Wheels
    drive : Drive
        Differential, omni or car.
    start : array_like, (3,)
        The pose at the first reading, m and radians.

    Examples
    --------
    >>> from vinecompass import demo_file, read_robot
    >>> drive = read_robot(demo_file("robot.toml")).drive
    >>> track = dead_reckon(Wheels(np.array([0.0, 1.0]), np.array([[0.0, 0.0], [10.0, 10.0]])), drive)
    >>> bool(np.isclose(track.length, 10.0 * drive.wheel_radius))
    True
    """
    check_wheels(wheels, drive)
    return Track(wheels.t, chain(checked_pose(start, "start"), arc(wheel_ways(wheels, drive), 1.0)))


def wheel_ways(wheels: Wheels, drive: Drive) -> NDArray[np.float64]:
    """Return the body's way ``(N - 1, 3)`` between readings: along the arc, ahead and left, m; turned, radians."""
    # A car steers between two readings with the mean of their angles.
    steering = None if wheels.steering is None else 0.5 * (wheels.steering[1:] + wheels.steering[:-1])
    return body_velocity(drive, np.diff(wheels.angles, axis=0), steering)


def turned_by_gyro(imu: Imu) -> NDArray[np.float64]:
    """Return how far a gyro says to have turned ``(N,)`` since its first reading, bias and all, radians."""
    return np.concatenate([[0.0], np.cumsum(imu.turn_rate[1:] * np.diff(imu.t))])


def odometry_track(run: Run) -> Track:
    """Return a run's odometry in the track frame: its odometry stream, or else dead reckoning from its wheels."""
    if run.odometry is not None:
        return run.odometry
    if run.wheels is not None:
        return dead_reckon(run.wheels, run.robot.drive)
    raise InputError(
        "the run has neither odometry nor wheels", file=run.folder, key="odometry", expected="a table of one of them"
    )
