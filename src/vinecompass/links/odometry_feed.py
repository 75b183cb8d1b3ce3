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
    """Fuses the readings of each scan period into a track that covers at least the last second.

    Parameters
    ----------
    robot : Robot
    settings : FusionSettings, optional
    """

    def __init__(self, robot: Robot, *, settings: FusionSettings | None = None) -> None:
        self._fusion = OdometryFusion(robot, settings=settings)
        self._fusion.update_wheels(0.0, np.zeros(len(robot.drive.wheel_names)), 0.0 if robot.drive.steered else None)
        self._track = Track(np.zeros(1), np.zeros((1, 3)))

    def take(self, readings: SimulatedPeriod) -> Track:
        """Take in one period's wheels and IMU readings in the order of their stamps; return the track until now."""
        wheels, imu = readings.wheels, readings.imu
        felt = np.column_stack([imu.t, imu.turn_rate, imu.acceleration_x, imu.acceleration_y]).tolist()
        turned, angles = wheels.t.tolist(), wheels.angles.tolist()
        steering = [None] * len(turned) if wheels.steering is None else wheels.steering.tolist()
        poses: list[NDArray[np.float64]] = []
        # Of one moment, the IMU comes first.
        for t, by_wheels, i in sorted(
            [(row[0], False, i) for i, row in enumerate(felt)] + [(t, True, i) for i, t in enumerate(turned)]
        ):
            if by_wheels:
                self._fusion.update_wheels(t, angles[i], steering[i])
                poses.append(self._fusion.pose)
            else:
                self._fusion.update_imu(*felt[i])
        if poses:
            kept = np.s_[int(np.searchsorted(self._track.t, turned[-1] - TRACK_KEPT)) :]
            self._track = Track(
                np.concatenate([self._track.t[kept], turned]), np.concatenate([self._track.poses[kept], poses])
            )
        return self._track
