"""Safety, below everything else: no command is let through that could not be braked before something seen."""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray
from pydantic import Field

from vinecompass.files import Model, NotNegative, Positive
from vinecompass.geometry import arc
from vinecompass.navigation.kernels import first_blocked
from vinecompass.robot import Command, Robot, limit_command

__all__ = ["SafetySettings", "guard_outline", "safe_command"]

SHARES = (1.0, 0.75, 0.5, 0.35, 0.2, 0.1)
"""Shares of a command that are tried, from all of it down."""


class SafetySettings(Model):
    """The ``[safety]`` table of the settings."""

    margin: NotNegative = Field(0.04, description="what is kept free about the body, m")
    delay: NotNegative = Field(0.2, description="time from seeing to braking, s")
    stale_after: Positive = Field(0.35, description="age of a scan or odometry beyond which the robot stops, s")


def guard_outline(robot: Robot, margin: float) -> NDArray[np.float64]:
    """Return the body's outline ``(N, 2)`` widened by a margin, m."""
    return np.array(shapely.Polygon(robot.body.polygon).buffer(margin, join_style="mitre").exterior.coords[:-1])


def safe_command(
    wanted: Command, current: Command, points: NDArray[np.float64], robot: Robot, outline: NDArray[np.float64],
    *, duration: float, delay: float,
) -> Command:  # fmt: skip
    """Return the greatest share of a command from which the robot can still stop before it touches a point.

    Parameters
    ----------
    wanted, current : Command
        The command to check, and the one in force.
    points : array, (N, 2)
        What the scanner sees, in the body frame as it is now, m.
    robot : Robot
    outline : array, (M, 2)
        The body's outline with its margin; points inside it already are not what stops it.
    duration, delay : float
        Of the command, and from seeing to braking, s.

    Returns
    -------
    Command
        Within the drive's limits from `current`; braking as hard as allowed if no share is safe.
    """
    drive = robot.drive
    near = points[np.hypot(*points.T) < 3.5]
    for share in SHARES:
        command = limit_command(
            Command(wanted.speed * share, wanted.turn_rate * share), current, duration, drive
        )  # fmt: skip
        speed, turn_rate = command.speed, command.turn_rate
        stopping = delay + max(abs(speed) / drive.braking, abs(turn_rate) / drive.turn_acceleration)
        # Braking from v takes v / b seconds and half the way that v would make in that time.
        reach = delay + duration + (stopping - delay) / 2.0
        fastest = max(abs(speed), abs(turn_rate) * robot.body.outer_radius, 1e-6)
        times = np.linspace(0.0, reach, int(np.ceil(reach * fastest / 0.03)) + 2)
        path = arc([speed, 0.0, turn_rate], times)
        if first_blocked(outline, near, path) == len(path):
            return command
    return limit_command(Command(), current, duration, drive)
