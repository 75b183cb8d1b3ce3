"""The fusion filter for wheels and IMU once more, in plain NumPy matrices: a yardstick, and a judge in tests."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from vinecompass.fusion import places
from vinecompass.fusion.odometry_fusion import filter_parameters, first_state
from vinecompass.motion import body_velocity, rolling_of
from vinecompass.robot import Robot
from vinecompass.settings import FusionSettings

FloatArray = NDArray[np.float64]
WAY = np.arange(places.WAY_AHEAD, places.WAY_TURNED + 1)
REFERENCE = np.arange(places.REFERENCE_X, places.REFERENCE_HEADING + 1)
WHEEL_SCALES = range(places.WHEEL_GAIN, places.WHEEL_TURN + 1)
LIKELY, REFERENCE_AGE, PACE_TIME = 1.5, 0.5, 0.2
"""As in the filter: expected square from which a reading counts less, and seconds for which a reference holds, and
over which the pace of the rims is averaged."""


class ReferenceFilter:
    """As `OdometryFusion`, for a differential drive, readings in order, an IMU at the body's origin, and no gates."""

    def __init__(self, robot: Robot, start: FloatArray) -> None:
        settings = FusionSettings()
        first = first_state(robot, settings, start)
        self.p = filter_parameters(robot, settings)
        self.x = first[: places.STATES].copy()
        self.covariance = first[places.MEMORY :].reshape(places.STATES, places.STATES).copy()
        self.t = 0.0
        self.pushed_at = -np.inf
        self.push = np.zeros(2)
        self.still_for = 0.0
        self.pace = 0.0
        self.doubt_until = -np.inf
        self.drive = robot.drive
        self.last: tuple[float, FloatArray] | None = None
        self.reference_t = -np.inf
        tick = 2.0 * np.pi / robot.wheels.ticks_per_turn * robot.drive.wheel_radius / np.sqrt(6.0)
        back = np.linalg.pinv(rolling_of(robot.drive))
        self.tick_spread = np.array([tick * np.hypot.reduce(back[0]), tick * np.hypot.reduce(back[2])])

    def predict(self, t: float) -> None:
        """Carry the state on to a time, in one step."""
        step, p, x = t - self.t, self.p, self.x
        if step <= 1e-9:
            return
        pushed = abs(self.t + 0.5 * step - self.pushed_at) < 2.5 * p[places.PUSH_PERIOD]
        ahead = self.push[0] - x[7] if pushed else 0.0
        middle = x[2] + 0.5 * x[5] * step
        c, s = np.cos(middle), np.sin(middle)
        dx, dy = step * (x[3] + 0.5 * ahead * step) * np.array([c, s])
        jacobian = np.eye(places.STATES)
        jacobian[0, [2, 3, 4, 5]] = -dy, c * step, -s * step, -0.5 * step * dy
        jacobian[1, [2, 3, 4, 5]] = dx, s * step, c * step, 0.5 * step * dx
        jacobian[2, 5] = step
        jacobian[WAY, [3, 4, 5]] = step
        if pushed:
            # The push reaches the speed, and through the speed's own row nothing else within the step.
            jacobian[3, 7] = -step
        kept = np.exp(-step / p[places.CREEP_TIME])
        jacobian[[9, 10], [9, 10]] = kept
        self.covariance = jacobian @ self.covariance @ jacobian.T
        self.covariance[9, 9] += p[places.CREEP] ** 2 * (1.0 - kept**2)
        self.covariance[10, 10] += p[places.CREEP_TURN] ** 2 * (1.0 - kept**2)
        gain = np.zeros(places.STATES)
        gain[[0, 1, 3, WAY[0]]] = 0.5 * c * step, 0.5 * s * step, 1.0, 0.5 * step
        variance = (
            p[places.PUSH_NOISE] ** 2 * p[places.PUSH_PERIOD] * step if pushed else p[places.SPEED_CHANGE] ** 2 * step
        )
        self.covariance += variance * np.outer(gain, gain)
        gain[:] = 0.0
        gain[[2, 5, WAY[2]]] = step, 1.0, step
        # An IMU reading is never older than this in a run that has one.
        self.covariance += p[places.GYRO_CHANGE] ** 2 * step * np.outer(gain, gain)
        self.covariance[6, 6] += p[places.GYRO_WALK] ** 2 * step
        self.covariance[[7, 8], [7, 8]] += p[places.PUSH_WALK] ** 2 * step
        x[:6] += [dx, dy, x[5] * step, ahead * step, 0.0, 0.0]
        x[WAY[0]] += step * (x[3] - 0.5 * ahead * step)
        x[WAY[2]] += x[5] * step
        x[9:11] *= kept
        self.t = t

    def correct(self, rows: FloatArray, residuals: FloatArray, noise: FloatArray, own: Sequence[int] = ()) -> None:
        """Correct by a linear reading: with bounded influence, leaving the reference pose and its own scales alone."""
        both = rows @ self.covariance @ rows.T
        squared = residuals @ np.linalg.solve(both + np.diag(noise), residuals)
        noise = noise * max(float(squared) / (LIKELY * len(residuals)), 1.0)
        gains = self.covariance @ rows.T @ np.linalg.inv(both + np.diag(noise))
        dx, dy = self.x[:2] - self.x[REFERENCE[:2]]
        carry = np.array([[1.0, 0.0, -dy], [0.0, 1.0, dx], [0.0, 0.0, 1.0]])
        gains[:3] -= carry @ gains[REFERENCE]
        gains[[*REFERENCE, *own]] = 0.0
        self.x += gains @ residuals
        left = np.eye(places.STATES) - gains @ rows
        self.covariance = left @ self.covariance @ left.T + (gains * noise) @ gains.T

    def update_imu(self, t: float, turn_rate: float, ahead: float, left: float) -> None:
        """Take an IMU reading."""
        self.pushed_at = t
        self.push = np.array([ahead, left])
        self.predict(t)
        p, x = self.p, self.x
        row = np.zeros((1, places.STATES))
        scale = p[places.GYRO_SCALE]
        row[0, [5, 6, places.GYRO_GAIN]] = scale * (1.0 + x[places.GYRO_GAIN]), 1.0, scale * x[5]
        read = row[0, 5] * x[5] + x[6]
        self.correct(row, np.array([turn_rate - read]), np.array([p[places.GYRO_NOISE] ** 2]), own=[places.GYRO_GAIN])
        row = np.zeros((1, places.STATES))
        row[0, [3, 5, 8]] = x[5], x[3], 1.0
        self.correct(row, np.array([left - x[8] - x[5] * x[3]]), np.array([p[places.PUSH_NOISE] ** 2 + 0.02**2]))

    def update_wheels(self, t: float, angles: FloatArray) -> None:
        """Take a wheel reading."""
        self.predict(t)
        if self.last is not None:
            way = body_velocity(self.drive, angles - self.last[1])
            self._roll(t - self.last[0], way)
        self.last = (t, angles)
        self.x[WAY] = 0.0
        self.covariance[WAY] = self.covariance[:, WAY] = 0.0
        if self.t - self.reference_t > REFERENCE_AGE:
            self.reference_t = self.t
            self.x[REFERENCE] = self.x[:3]
            self.covariance[REFERENCE] = self.covariance[:3]
            self.covariance[:, REFERENCE] = self.covariance[:, :3]

    def _roll(self, duration: float, way: FloatArray) -> None:
        p, x = self.p, self.x
        self.still_for = self.still_for + duration if np.all(way == 0.0) else 0.0
        sets_off = abs(x[3]) > 5.0 * p[places.STILL_SPREAD] or abs(x[5]) > 20.0 * p[places.STILL_SPREAD]
        still = self.still_for >= p[places.STILL_TIME] and not sets_off
        ahead, turned = x[WAY[0]], x[WAY[2]]
        rolled = np.abs(rolling_of(self.drive) @ way).mean()
        rims = self.pace * duration * (rolled > 0.0)
        self.pace += (1.0 - np.exp(-duration / PACE_TIME)) * (rolled / duration - self.pace)
        rows = np.zeros((2, places.STATES))
        rows[0, [WAY[0], 9, places.WHEEL_GAIN]] = 1.0, rims, ahead
        rows[1, [WAY[2], 10, places.WHEEL_TURN, places.WHEEL_VEER]] = 1.0, rims, turned, ahead
        noise = np.full(2, (p[places.STILL_SPREAD] * duration) ** 2) if still else self.tick_spread**2
        self.correct(rows, way[[0, 2]] - rows @ x, noise, own=WHEEL_SCALES)
