"""What was seen right beside the body of late: of many noisy scans, one would let a creeping robot by in the end."""

from __future__ import annotations

from collections import deque

import numpy as np
import shapely
from numpy.typing import NDArray

from vinecompass.geometry import inverse, transform_points
from vinecompass.motion import Command
from vinecompass.robot import Robot

__all__ = ["NearOfLate"]

FloatArray = NDArray[np.float64]
KEPT_FOR = 1.5
"""Seconds for which points are kept."""
NEAR = 0.12
"""Metres about the body in which they are."""
CREEPS_BELOW = 0.05
"""m/s, of any point of the body, below which it creeps: faster, it has left a place before chance lets it by."""


class NearOfLate:
    """Keeps what is near the body, in the odometry's frame, for some scans.

    Safety lets a robot creep on if the last scan has room for it. Each scan is off by the scanner's noise, another
    way each time: creeping from one lucky scan to the next, a body would eat up its margin and touch a corner.

    Parameters
    ----------
    robot : Robot
    """

    def __init__(self, robot: Robot) -> None:
        self._radius = robot.body.outer_radius
        self._about = shapely.Polygon(robot.body.polygon).buffer(NEAR)
        shapely.prepare(self._about)
        self._kept: deque[tuple[float, FloatArray]] = deque()

    def add(self, t: float, pose: FloatArray, points: FloatArray, command: Command) -> FloatArray:
        """Take in the points ``(N, 2)`` seen now, in the body frame, m, and return those of late that count.

        Parameters
        ----------
        t : float
            Of the scan that saw them, s.
        pose : array, (3,)
            Of the body, in the odometry's frame.
        points : array, (N, 2)
        command : Command
            In force.
        """
        if not self._kept or t > self._kept[-1][0]:
            near = points[np.hypot(*points.T) < self._radius + NEAR]
            near = near[shapely.contains_xy(self._about, *near.T)]
            self._kept.append((t, transform_points(pose, near)))
        while self._kept[0][0] < t - KEPT_FOR:
            self._kept.popleft()
        fastest = np.hypot(command.speed, command.sideways) + self._radius * abs(command.turn_rate)
        if fastest > CREEPS_BELOW:
            return np.zeros((0, 2))
        return transform_points(inverse(pose), np.vstack([each for _, each in self._kept]))

    def carried(self) -> None:
        """Forget everything: the robot was put down elsewhere."""
        self._kept.clear()
