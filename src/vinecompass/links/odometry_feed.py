"""The odometry that a navigator is fed in a rehearsal: wheels and IMU, fused as they come in."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.fusion import OdometryFusion
from vinecompass.robot import Robot
from vinecompass.runs import Track
from vinecompass.settings import FusionSettings
from vinecompass.simulation import SimulatedPeriod

__all__ = ["OdometryFeed"]

TRACK_KEPT = 1.0
"""Seconds of track that are kept: a scan takes a tenth of one."""


class OdometryFeed:
    """Fuses what is handed over into a track that covers at least the last second.

    Parameters
    ----------
    robot : Robot
    settings : FusionSettings, optional
    """

    def __init__(self, robot: Robot, *, settings: FusionSettings | None = None) -> None:
        self._fusion = OdometryFusion(robot, settings=settings)
        self._fusion.update_wheels(0.0, np.zeros(len(robot.drive.wheel_names)), 0.0 if robot.drive.steered else None)
        self._track = Track(np.zeros(1), np.zeros((1, 3)))
        self._waiting: list[tuple[float, bool, list[float]]] = []
        self._imu_until = self._wheels_until = 0.0

    def take(self, readings: SimulatedPeriod) -> Track:
        """Take in wheels and IMU readings, and fuse them in the order of their stamps; return the track until now.

        Readings of one sensor wait for those of the other, which may be on their way.
        """
        wheels, imu = readings.wheels, readings.imu
        columns = [wheels.t, *wheels.angles.T, *([] if wheels.steering is None else [wheels.steering])]
        turned = np.column_stack(columns).tolist()
        felt = np.column_stack([imu.t, imu.turn_rate, imu.acceleration_x, imu.acceleration_y]).tolist()
        self._wheels_until = turned[-1][0] if turned else self._wheels_until
        self._imu_until = felt[-1][0] if felt else self._imu_until
        # Of one moment, the IMU comes first.
        waiting = self._waiting + [(row[0], False, row) for row in felt] + [(row[0], True, row) for row in turned]
        waiting.sort(key=lambda each: each[:2])
        until = min(self._wheels_until, self._imu_until)
        self._waiting = [each for each in waiting if each[0] > until]
        stamps: list[float] = []
        poses: list[NDArray[np.float64]] = []
        for t, by_wheels, row in waiting[: len(waiting) - len(self._waiting)]:
            if by_wheels:
                angles = np.array(row[1 : 1 + wheels.angles.shape[1]])
                self._fusion.update_wheels(t, angles, None if wheels.steering is None else row[-1])
                stamps.append(t)
                poses.append(self._fusion.pose)
            else:
                self._fusion.update_imu(*row)
        if poses:
            kept = np.s_[int(np.searchsorted(self._track.t, stamps[-1] - TRACK_KEPT)) :]
            self._track = Track(
                np.concatenate([self._track.t[kept], stamps]), np.concatenate([self._track.poses[kept], poses])
            )
        return self._track
