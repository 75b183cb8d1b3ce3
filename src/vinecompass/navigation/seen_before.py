"""What was seen a moment ago: a scanner in front does not see what a turning body swings its tail at."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import inverse, relative, transform_points
from vinecompass.robot import Lidar

__all__ = ["SeenBefore"]

FloatArray = NDArray[np.float64]
KEPT = 60.0
"""Seconds for which points are kept."""
REACH = 1.6
"""Metres from the robot beyond which none are kept: no body swings farther."""
SEEN_BY_TURNING = 0.2
"""Metres behind that are seen for each radian of a turn on the spot."""
APART = 0.02
"""Metres: of points in one square of that size one is kept."""
MANY = 1 << 32
"""More such squares than there are in a row."""


class SeenBefore:
    """Keeps points near the robot in the odometry's frame, so that being lost on the map does not matter.

    Parameters
    ----------
    lidar : Lidar

    Attributes
    ----------
    room_behind : float
        Metres that it may back up over floor that it has seen itself. The start is taken on trust; where it was
        carried to it knows nothing of what lies behind, until it has driven on or turned about.
    """

    def __init__(self, lidar: Lidar) -> None:
        self._mount = lidar.mount_pose
        low, high = sorted((lidar.first_beam_deg, lidar.last_beam_deg))
        self._middle, self._half = np.radians(0.5 * (low + high)), np.radians(0.5 * (high - low))
        self.room_behind = np.inf
        self._last_pose: FloatArray | None = None
        self._points: FloatArray = np.zeros((0, 2))
        self._stamps: FloatArray = np.zeros(0)

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
        if self._last_pose is not None:
            ahead, _, turn = relative(pose, self._last_pose).tolist()
            self.room_behind = max(self.room_behind + ahead + SEEN_BY_TURNING * abs(turn), 0.0)
        self._last_pose = pose
        before = transform_points(inverse(pose), self._points)
        hidden = self._out_of_sight(before) & (np.hypot(*before.T) < REACH) & (np.abs(t - self._stamps) < KEPT)
        near = points[np.hypot(*points.T) < REACH]
        kept = np.vstack([self._points[hidden], transform_points(pose, near)])
        stamps = np.concatenate([self._stamps[hidden], np.full(len(near), t)])
        squares = np.round(kept / APART).astype(np.int64)
        _, first = np.unique(squares[:, 0] * MANY + squares[:, 1], return_index=True)
        self._points, self._stamps = kept[first], stamps[first]
        return before[hidden]

    def carried(self) -> None:
        """Forget everything: the robot was put down elsewhere."""
        self._points, self._stamps, self.room_behind = self._points[:0], self._stamps[:0], 0.0

    def _out_of_sight(self, points: FloatArray) -> NDArray[np.bool_]:
        """Tell which points ``(N, 2)`` in the body frame lie outside the scanner's sweep."""
        seen = transform_points(inverse(self._mount), points)
        away = np.angle(np.exp(1j * (np.arctan2(seen[:, 1], seen[:, 0]) - self._middle)))
        return np.asarray(np.abs(away) > self._half)
