"""What was seen a moment ago: a scanner in front does not see what a turning body swings its tail at."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.navigation.sensing.kernels import keep_hidden
from vinecompass.robot import Robot

__all__ = ["SeenBefore"]

FloatArray = NDArray[np.float64]
KEPT_FOR = 60.0
"""Seconds for which points are kept."""
KEPT_BEYOND = 1.5
"""Metres beyond what the body reaches in a turn within which points are kept.

What it drives back to had long been out of sight.
"""
SQUARE_SIDE = 0.02
"""Metres: of points in one square of that size one is kept, the first that was seen there."""


class SeenBefore:
    """Keeps points near the robot in the odometry's frame, so that being lost on the map does not matter.

    Parameters
    ----------
    robot : Robot
    """

    def __init__(self, robot: Robot) -> None:
        lidar = robot.scanner
        self._reach = robot.body.outer_radius + KEPT_BEYOND
        self._mount = lidar.mount_pose
        self._view = lidar.view
        self._kept: FloatArray = np.zeros((0, 3))

    def add(self, t: float, pose: FloatArray, points: FloatArray) -> FloatArray:
        """Take in the points seen now, and return those that are out of sight now ``(M, 2)``, in the body frame, m.

        Parameters
        ----------
        t : float
            Seconds.
        pose : array, (3,)
            The body's, in the odometry's frame.
        points : array, (N, 2)
            In the body frame, m.
        """
        self._kept, hidden = keep_hidden(
            self._kept, points, t, pose, self._mount, self._view, (KEPT_FOR, self._reach, SQUARE_SIDE)
        )
        return np.asarray(hidden)

    def carried(self) -> None:
        """Forget everything: the robot was put down elsewhere."""
        self._kept = self._kept[:0]
