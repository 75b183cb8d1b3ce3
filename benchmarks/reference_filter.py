"""The fusion filter for wheels and IMU once more, in plain NumPy matrices: a yardstick, and a judge in tests."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.fusion import places
from vinecompass.fusion.odometry_fusion import filter_parameters, first_state
from vinecompass.motion import body_velocity, rolling_of
from vinecompass.robot import Robot
from vinecompass.settings import FusionSettings

FloatArray = NDArray[np.float64]


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
        self.doubt_until = -np.inf
        self.drive = robot.drive
        self.last: tuple[float, FloatArray] | None = None
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
        jacobian[[14, 15, 16], [3, 4, 5]] = step
        if pushed:
            # The push reaches the speed, and through the speed's own row nothing else within the step.
            jacobian[3, 7] = -step
        kept = np.exp(-step / p[places.CREEP_TIME])
        jacobian[[9, 10], [9, 10]] = kept
        self.covariance = jacobian @ self.covariance @ jacobian.T
        self.covariance[9, 9] += p[places.CREEP] ** 2 * (1.0 - kept**2)
        self.covariance[10, 10] += p[places.CREEP_TURN] ** 2 * (1.0 - kept**2)
        gain = np.zeros(places.STATES)
        gain[[0, 1, 3, 14]] = 0.5 * c * step, 0.5 * s * step, 1.0, 0.5 * step
        variance = (
            p[places.PUSH_NOISE] ** 2 * p[places.PUSH_PERIOD] * step if pushed else p[places.SPEED_CHANGE] ** 2 * step
        )
        self.covariance += variance * np.outer(gain, gain)
        gain[:] = 0.0
        gain[[2, 5, 16]] = step, 1.0, step
        # An IMU reading is never older than this in a run that has one.
        self.covariance += p[places.GYRO_CHANGE] ** 2 * step * np.outer(gain, gain)
        self.covariance[6, 6] += p[places.GYRO_WALK] ** 2 * step
        self.covariance[[7, 8], [7, 8]] += p[places.PUSH_WALK] ** 2 * step
        x[:6] += [dx, dy, x[5] * step, ahead * step, 0.0, 0.0]
        x[14] += step * (x[3] - 0.5 * ahead * step)
        x[16] += x[5] * step
        x[9:11] *= kept
        self.t = t

    def correct(self, rows: FloatArray, residuals: FloatArray, noise: FloatArray) -> None:
        """Correct by a linear reading."""
        innovation = rows @ self.covariance @ rows.T + np.diag(noise)
        gains = self.covariance @ rows.T @ np.linalg.inv(innovation)
        self.x += gains @ residuals
        self.covariance -= gains @ rows @ self.covariance
        self.covariance = 0.5 * (self.covariance + self.covariance.T)

    def update_imu(self, t: float, turn_rate: float, ahead: float, left: float) -> None:
        """Take an IMU reading."""
        self.pushed_at = t
        self.push = np.array([ahead, left])
        self.predict(t)
        p, x = self.p, self.x
        row = np.zeros((1, places.STATES))
        row[0, [5, 6]] = p[places.GYRO_SCALE], 1.0
        self.correct(row, turn_rate - row @ x, np.array([p[places.GYRO_NOISE] ** 2]))
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
        self.x[14:] = 0.0
        self.covariance[14:] = self.covariance[:, 14:] = 0.0

    def _roll(self, duration: float, way: FloatArray) -> None:
        p, x = self.p, self.x
        self.still_for = self.still_for + duration if np.all(way == 0.0) else 0.0
        sets_off = abs(x[3]) > 5.0 * p[places.STILL_SPREAD] or abs(x[5]) > 20.0 * p[places.STILL_SPREAD]
        still = self.still_for >= p[places.STILL_TIME] and not sets_off
        rims = max(abs(x[14]), abs(x[16]) * p[places.CREEP_ARM])
        rows = np.zeros((2, places.STATES))
        rows[0, [14, 9]] = 1.0, rims
        rows[1, [16, 10]] = 1.0, rims
        noise = np.full(2, (p[places.STILL_SPREAD] * duration) ** 2) if still else self.tick_spread**2
        self.correct(rows, way[[0, 2]] - rows @ x, noise)
