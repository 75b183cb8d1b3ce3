"""From a body's velocity to its wheels' speeds, and back, for every kind of drive."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.motion.kinds import kind_of
from vinecompass.robot import Drive

__all__ = [
    "body_velocity",
    "rolling_of",
    "steering_angle",
    "unrolling_of",
    "wheel_places",
    "wheel_radii",
    "wheel_speeds",
]

FloatArray = NDArray[np.float64]


def rolling_of(drive: Drive) -> FloatArray:
    """Return the speed of each wheel's rim from the body's velocity: ``(wheels, 3)``, by (m/s, m/s, rad/s), in m/s."""
    return kind_of(drive).rolling(drive)


def unrolling_of(drive: Drive) -> FloatArray:
    """Return the body's velocity from the speeds of the rims, the least-squares one: ``(3, wheels)``."""
    return np.linalg.pinv(rolling_of(drive)).astype(np.float64)


def wheel_radii(drive: Drive) -> FloatArray:
    """Return the radius of each wheel ``(wheels,)``, m; where left and right differ, their mean is `wheel_radius`."""
    shares = np.zeros(len(drive.wheel_names))
    if drive.wheel_difference != 0.0:
        shares[:] = -0.5 * drive.wheel_difference, 0.5 * drive.wheel_difference
    return drive.wheel_radius * (1.0 + shares)


def wheel_places(drive: Drive) -> FloatArray:
    """Return where the wheels stand on the body ``(wheels, 2)``, m."""
    return kind_of(drive).wheel_places(drive)


def wheel_speeds(drive: Drive, velocity: ArrayLike, *, rpm: bool = False) -> FloatArray:
    """Return how fast each wheel turns while the body moves, in the order of `Drive.wheel_names`.

    Parameters
    ----------
    drive : Drive
    velocity : array_like, (..., 3)
        Speed ahead and to the left, m/s, and turn rate, rad/s. A drive that does not go sideways has no speed to the
        left, and what is asked of it is not turned into wheel speeds.
    rpm : bool
        Whether to give turns a minute instead of radians a second.

    Returns
    -------
    array, (..., wheels)
        Radians a second, or turns a minute.

    Examples
    --------
    >>> from vinecompass import demo_file, read_robot
    >>> drive = read_robot(demo_file("robot.toml")).drive
    >>> body_velocity(drive, wheel_speeds(drive, [0.5, 0.0, 0.3])).round(9).tolist()
    [0.5, 0.0, 0.3]
    """
    unit = 30.0 / np.pi if rpm else 1.0
    return np.asarray(velocity, dtype=float) @ rolling_of(drive).T * (unit / wheel_radii(drive))


def steering_angle(drive: Drive, velocity: ArrayLike) -> FloatArray:
    """Return the steering angle ``(...)`` at which a car keeps a velocity ``(..., 3)``, radians, left positive.

    The angle is that of one wheel midway between the steered ones (the bicycle model).
    """
    speed, _, turn_rate = np.moveaxis(np.asarray(velocity, dtype=float), -1, 0)
    assert drive.wheelbase is not None
    return np.arctan2(turn_rate * drive.wheelbase * np.where(speed < 0.0, -1.0, 1.0), np.abs(speed))


def body_velocity(drive: Drive, speeds: ArrayLike, steering: ArrayLike | None = None) -> FloatArray:
    """Return the body's velocity from its wheels' speeds: the least-squares one where there are wheels to spare.

    Parameters
    ----------
    drive : Drive
    speeds : array_like, (..., wheels)
        Radians a second.
    steering : array_like, (...), optional
        A car's steering angle, radians; it decides the turn rate in place of the two rear wheels' difference.

    Returns
    -------
    array, (..., 3)
        Speed ahead and to the left, m/s, and turn rate, rad/s.
    """
    velocity = np.asarray(speeds, dtype=float) * wheel_radii(drive) @ unrolling_of(drive).T
    if steering is not None and drive.wheelbase is not None:
        velocity[..., 2] = velocity[..., 0] * np.tan(np.asarray(steering, dtype=float)) / drive.wheelbase
    return velocity
