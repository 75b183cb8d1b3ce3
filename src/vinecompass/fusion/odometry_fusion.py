"""The fusion filter in the loop: wheels, odometry, IMU, scans and position fixes, in any mix and in any order."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass
from math import hypot, isfinite, sin, tan
from operator import mul
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.door import checked
from vinecompass.fusion.kernels import push
from vinecompass.fusion.places import (
    AHEAD,
    EVENT,
    GYRO_BIAS,
    GYRO_T,
    HEADING,
    IMU,
    MEMORY,
    ODOMETRY,
    PARAMETERS,
    POSITION,
    PUSH_BIAS_X,
    PUSH_BIAS_Y,
    PUSH_T,
    REFERENCE_HEADING,
    REFERENCE_T,
    REFERENCE_X,
    ROW,
    SCAN,
    SCAN_T,
    STATES,
    TURN_RATE,
    WHEELS,
    T,
    X,
)
from vinecompass.fusion.way_noise import WayNoise
from vinecompass.geometry import arc_velocity, checked_pose, chi_square_bound, relative, wrap_heading
from vinecompass.motion import kind_of, rolling_of, unrolling_of, wheel_radii
from vinecompass.odometry import ScanMotion
from vinecompass.odometry.laser_odometry import LEFT_OPEN
from vinecompass.robot import Robot
from vinecompass.settings import FusionSettings

__all__ = ["OdometryFusion", "SourceReport", "Taken"]

FloatArray = NDArray[np.float64]
Taken = Literal["taken", "late", "gated", "refused"]
STATUSES: tuple[Taken, ...] = ("taken", "late", "gated", "refused")
SOURCES = ("imu", "wheels", "odometry", "scans", "position")
LOG_ROWS = 600
"""Readings kept to put late ones back among: some three seconds of a full set of sensors."""
ALIKE_FOR = 0.5
"""Seconds for which scans compared with one reference are off it by much the same: so many say no more than one."""
NO_FASTER, HARDER = 50.0, 3.0
"""m/s (and rad/s) beyond which readings are no motion of a wheeled robot, and times what the drive can do beyond
which accelerations are none."""
UNTOLD = 100.0
"""Standard deviation, m or rad, of what a scan does not tell."""
MEANDERS = 0.1
"""Times as far as its turn rate wanders freely that a robot is turned meanwhile whose whole turn is known."""
ERRORS_LAST = np.array([0.7, 0.7, 0.05])
"""Seconds for which an error of the speeds and of the turn rate lasts, as was measured over a metre: wheels creep for a
while, a gyro's noise is new each time."""


@dataclass(frozen=True)
class SourceReport:
    """How one source of a fusion fared.

    Parameters
    ----------
    taken, gated, late, refused : int
        Readings used; left out because they contradicted the rest; older than the filter's memory; and not finite
        or absurd.
    normalised_innovation : float
        Mean square of what the readings taken differed from the prediction, by what they were expected to: near 1
        if the noise set for them is right, above if it is set too small or the sensor is wrong, below if too
        large. The source that leads the others (an IMU) is compared with the robot's liveliness alone, and scans that
        are compared with one reference count for one, so that both come out below.
    """

    taken: int
    gated: int
    late: int
    refused: int
    normalised_innovation: float


class OdometryFusion:
    """An extended Kalman filter over pose, speed, turn rate and the sensors' biases.

    Each ``update_...`` takes one reading, in whatever order they come in: one that is late by less than some three
    seconds is put back to its own time, and all after it is done again. Each says what became of the reading:
    ``"taken"``; ``"gated"`` if it contradicts the rest, as wheels do that slip; ``"late"`` if it is too old to be put
    back; ``"refused"`` if it is not finite or absurd.

    Parameters
    ----------
    robot : Robot
        Whose sensors, mounts and noises these are.
    start : array_like, (3,)
        The pose to begin at, m and radians.
    settings : FusionSettings, optional

    Attributes
    ----------
    t : float
        The stamp of the latest reading, s; `nan` before the first.
    pose, velocity : array, (3,)
        In the frame of the start: m and radians; speed ahead and to the left, m/s, and turn rate, rad/s.
    covariance : array, (3, 3)
        Of the pose.
    gyro_bias : float
        rad/s.

    Notes
    -----
    The Kalman filter as in Bar-Shalom, Li and Kirubarajan (2001). Wheels creep for a while rather than scatter, so
    their error is a state that fades (first-order Gauss-Markov). Scans are compared with the pose at the reference
    scan, which is a state too (stochastic cloning: Roumeliotis and Burdick, 2002). Off the axle, an IMU feels
    the turning and an antenna swings: both are carried to the body by the full lever arm.

    Examples
    --------
    >>> from vinecompass import demo_file, read_robot
    >>> robot = read_robot(demo_file("robot.toml"))
    >>> fusion = OdometryFusion(robot)
    >>> for i in range(101):
    ...     taken = fusion.update_wheels(0.02 * i, [0.1 * i, 0.1 * i])
    >>> taken, fusion.pose.round(2).tolist(), fusion.velocity.round(2).tolist()
    ('taken', [1.1, 0.0, 0.0], [0.55, 0.0, 0.0])
    >>> fusion.update_wheels(2.02, [float("nan"), 10.1])
    'refused'
    """

    @checked
    def __init__(
        self, robot: Robot, *, start: ArrayLike = (0.0, 0.0, 0.0), settings: FusionSettings | None = None
    ) -> None:
        self._robot = robot
        self._settings = settings or FusionSettings()
        self._parameters = filter_parameters(robot, self._settings)
        self._log = np.zeros((LOG_ROWS, ROW))
        self._log[0, EVENT:] = first_state(robot, self._settings, checked_pose(start, "start"))
        self._filled = 0
        self._begins = 0.0
        self._hardest = _hardest_push(robot)
        self._tally = np.zeros((len(SOURCES), 4))
        self._aside = np.zeros((len(SOURCES), 2), dtype=int)
        self._wheel_steps = _WaySteps(robot, _rounding_of_wheels(robot))
        rounding = self._settings.odometry_noise, self._settings.odometry_turn_noise
        self._odometry_steps = _WaySteps(robot, rounding)

    @property
    def t(self) -> float:
        """The stamp of the latest reading, s."""
        return float(self._state[T]) + self._begins if self._filled else float("nan")

    @property
    def pose(self) -> FloatArray:
        """x, y in metres and heading in radians, in the frame of the start."""
        x, y, heading = self._state[:3].tolist()
        return np.array((x, y, wrap_heading(heading)))

    @property
    def velocity(self) -> FloatArray:
        """Speed ahead and to the left, m/s, and turn rate, rad/s."""
        return self._state[AHEAD : TURN_RATE + 1].copy()

    @property
    def covariance(self) -> FloatArray:
        """Of the pose."""
        row = self._log[max(self._filled - 1, 0), EVENT + MEMORY :]
        return row.reshape(STATES, STATES)[:3, :3].copy()

    def step_covariance(self, duration: float) -> FloatArray:
        """Return the covariance ``(3, 3)`` of the motion over `duration` seconds, in the body's axes, m2, m rad, rad2.

        It is that of the velocity, whose errors last a while: those of steps that follow each other add up. Of a step
        that was long, nobody knows when the robot turned: so it may lead aside.
        """
        row = self._log[max(self._filled - 1, 0), EVENT + MEMORY :]
        of_velocity = row.reshape(STATES, STATES)[AHEAD : TURN_RATE + 1, AHEAD : TURN_RATE + 1]
        step = np.asarray(of_velocity * (duration * np.sqrt(np.outer(ERRORS_LAST, ERRORS_LAST))))
        ahead, left, turn_rate = self.velocity.tolist()
        wanders = MEANDERS * self._settings.turn_rate_change * duration**1.5
        step[1, 1] += (hypot(ahead, left) * duration) ** 2 * (sin(0.5 * turn_rate * duration) ** 2 / 3.0 + wanders**2)
        return step

    @property
    def gyro_bias(self) -> float:
        """What the gyro reads while nothing turns, rad/s."""
        return float(self._state[GYRO_BIAS])

    def update_imu(
        self, t: float, turn_rate: float, acceleration_x: float = float("nan"), acceleration_y: float = float("nan")
    ) -> Taken:
        """Take a turn rate, rad/s, and accelerations in the sensor's frame, m/s2, if there are any (`nan` if not)."""
        return self._push(_imu_event(t, turn_rate, acceleration_x, acceleration_y, self._hardest), IMU)

    def update_wheels(self, t: float, angles: Iterable[float], steering: float | None = None) -> Taken:
        """Take the angles turned so far by each wheel, radians, in the order of `Drive.wheel_names`."""
        return self._push(self._wheel_steps.wheel_event(t, angles, steering), WHEELS)

    def begin_anew(self, source: str) -> None:
        """Let the next reading of a source only say where it stands: what it counted since the last one is no way."""
        (self._wheel_steps if source == "wheels" else self._odometry_steps).begin_anew()

    def update_odometry(self, t: float, pose: ArrayLike) -> Taken:
        """Take a pose ``(3,)`` of an odometry that someone else keeps: what counts is the step since the one before."""
        return self._push(self._odometry_steps.odometry_event(t, pose), ODOMETRY)

    def update_scan(self, motion: ScanMotion) -> Taken:
        """Take what laser odometry made of a scan."""
        return self._push(_scan_event(motion, self._settings), SCAN)

    def update_position(self, t: float, x: float, y: float, spread: float | None = None) -> Taken:
        """Take where the position sensor was, m, with its standard deviation if not the robot file's."""
        return self._push(_position_event(t, x, y, spread, self._robot), POSITION)

    def report(self) -> dict[str, SourceReport]:
        """Return how each source that sent anything fared."""
        result = {}
        for kind, source in enumerate(SOURCES):
            taken, gated, squares, parts = self._tally[kind]
            late, refused = self._aside[kind]
            if taken + gated + late + refused:
                result[source] = SourceReport(
                    int(taken), int(gated), int(late), int(refused), squares / max(parts, 1.0)
                )
        return result

    @property
    def _state(self) -> FloatArray:
        return self._log[max(self._filled - 1, 0), EVENT : EVENT + MEMORY]

    def _push(self, event: FloatArray | None, kind: int) -> Taken:
        if event is None:
            self._aside[kind, 1] += 1
            return "refused"
        if self._filled == 0:
            # Inside, time begins at the first reading: of stamps since 1970, too few digits are left.
            self._begins = float(event[0])
            self._filled = 1
        event[0] -= self._begins
        self._filled, status = push(self._log, self._filled, self._parameters, event, self._tally)
        if status == 1:
            self._aside[kind, 0] += 1
        return STATUSES[status]


class _WaySteps:
    """From readings that add up (wheel angles, odometry poses) to the way between them, as events."""

    def __init__(self, robot: Robot, rounding: tuple[float, float]) -> None:
        self._drive = robot.drive
        self._rounding = rounding
        self._noise = WayNoise(*rounding)
        # Plain lists: for two wheels, Python's own arithmetic is several times as fast as an array's.
        self._ways = (unrolling_of(robot.drive) * wheel_radii(robot.drive)).tolist()
        self._rims = rolling_of(robot.drive).tolist()
        self._last: tuple[float, list[float], float | None] | None = None

    def begin_anew(self) -> None:
        """Forget the last reading."""
        self._last = None

    def wheel_event(self, t: float, angles: Iterable[float], steering: float | None) -> FloatArray | None:
        """Return the event of a wheel reading; None if it is not finite, out of order or absurd."""
        turned = [float(angle) for angle in angles]
        last, now = self._last, (float(t), turned, steering)
        if not (isfinite(sum(turned) + t) and isfinite(steering or 0.0)) or (last is not None and t <= last[0]):
            return None
        if last is None:
            self._last = now
            return _way_event(WHEELS, t, [0.0] * 3, 0.0, 0.0, self._rounding)
        steps = [new - old for new, old in zip(turned, last[1], strict=True)]
        way = [sum(map(mul, row, steps)) for row in self._ways]
        if steering is not None and last[2] is not None and self._drive.wheelbase is not None:
            way[2] = way[0] * tan(0.5 * (steering + last[2])) / self._drive.wheelbase
        return self._event(WHEELS, now, way)

    def odometry_event(self, t: float, pose: ArrayLike) -> FloatArray | None:
        """Return the event of an odometry pose; None if it is not finite or absurd."""
        place = np.asarray(pose, dtype=float)
        last, now = self._last, (float(t), place.tolist(), None)
        if not np.all(np.isfinite([t, *place])) or (last is not None and t <= last[0]):
            return None
        if last is None:
            self._last = now
            return _way_event(ODOMETRY, t, [0.0] * 3, 0.0, 0.0, self._rounding)
        way = arc_velocity(relative(place, last[1]))
        return self._event(ODOMETRY, now, way.tolist())

    def _event(self, kind: int, now: tuple[float, list[float], float | None], way: list[float]) -> FloatArray | None:
        assert self._last is not None
        duration = now[0] - self._last[0]
        absurd = max(map(abs, way)) > NO_FASTER * duration
        self._last = None if absurd else now  # After a leap, the next reading begins anew.
        if absurd:
            return None
        rolled = sum(abs(sum(map(mul, row, way))) for row in self._rims) / len(self._rims)
        return _way_event(kind, now[0], way, duration, rolled, self._noise.take(way, duration, rolled))


def _rounding_of_wheels(robot: Robot) -> tuple[float, float]:
    """Return the standard deviations of a way, m, and of a turn, rad, between angles rounded to ticks."""
    back = unrolling_of(robot.drive)
    # A difference of two angles, each rounded to a tick: the variance of two uniform errors.
    tick = 2.0 * np.pi / robot.wheels.ticks_per_turn * robot.drive.wheel_radius / np.sqrt(6.0)
    return float(tick * np.hypot.reduce(back[:2].T).max()), float(tick * np.hypot.reduce(back[2]))


def _way_event(
    kind: int, t: float, way: list[float], duration: float, rolled: float, spreads: tuple[float, float]
) -> FloatArray:
    return np.array((t, kind, *way, duration, rolled, *spreads, 0.0, 0.0, 0.0))


def _hardest_push(robot: Robot) -> float:
    """Return the acceleration, m/s2, beyond which a reading is a blow or a spike, and says nothing of the motion."""
    drive = robot.drive
    driven = max(drive.acceleration, drive.braking, drive.top_speed * drive.top_turn_rate)
    return HARDER * driven + 6.0 * robot.imu.acceleration_noise


def _imu_event(
    t: float, turn_rate: float, acceleration_x: float, acceleration_y: float, hardest: float
) -> FloatArray | None:
    """Return the event of an IMU reading; None if it is not finite or absurd."""
    if not (isfinite(t) and abs(turn_rate) <= NO_FASTER):
        return None
    pushed = abs(acceleration_x) <= hardest and abs(acceleration_y) <= hardest
    ahead, left = (acceleration_x, acceleration_y) if pushed else (0.0, 0.0)
    return np.array((t, IMU, turn_rate, ahead, left, float(pushed), 0.0, 0.0, 0.0, 0.0, 0.0, 0.0))


def _scan_event(motion: ScanMotion, settings: FusionSettings) -> FloatArray | None:
    """Return the event of a scan's motion."""
    if not (np.isfinite(motion.t) and np.all(np.isfinite(motion.since_reference))):
        return None
    covariance = motion.covariance if motion.degenerate is None else _untold_along(motion.covariance)
    event = np.zeros(EVENT)
    event[:5] = motion.t, SCAN, *motion.since_reference
    event[5:11] = covariance[np.tril_indices(3)] * settings.scan_noise_factor**2
    event[11] = float(motion.is_reference)
    return event


def _untold_along(covariance: FloatArray) -> FloatArray:
    """Return the covariance ``(3, 3)`` of a scan's motion that tells nothing where the place is degenerate.

    There the motion is the former one, kept up: a hundred such scans know no more of it than one. Along plain walls a
    robot slides without turning: were the little turn believed that the points put into that direction, how the robot
    turned would tell how far it went.
    """
    variances, axes = np.linalg.eigh(covariance)
    left_open = axes[:, variances > 0.5 * LEFT_OPEN**2]
    rest = np.eye(3) - left_open @ left_open.T
    told = rest @ covariance @ rest
    for axis in left_open.T:
        way = float(np.hypot(axis[0], axis[1]))
        untold = np.append(axis[:2] / way, 0.0) if way > 0.5 else np.array([0.0, 0.0, 1.0])
        told += UNTOLD**2 * np.outer(untold, untold)
    return np.asarray(told)


def _position_event(t: float, x: float, y: float, spread: float | None, robot: Robot) -> FloatArray | None:
    """Return the event of a position fix; None if it is not finite."""
    if spread is None:
        spread = robot.position.noise if robot.position is not None else 0.05
    if not (np.all(np.isfinite([t, x, y, spread])) and spread > 0.0):
        return None
    event = np.zeros(EVENT)
    event[:5] = t, POSITION, x, y, spread
    return event


def filter_parameters(robot: Robot, s: FusionSettings) -> FloatArray:
    imu, wheels = robot.imu, robot.wheels
    back = np.hypot.reduce(unrolling_of(robot.drive).T)
    antenna = (0.0, 0.0) if robot.position is None else robot.position.mount
    # However lively the drive, a gyro must be able to follow it through the gate.
    gyro_change = robot.drive.turn_acceleration / np.sqrt(imu.rate)
    values = (
        float(kind_of(robot.drive).goes_sideways),
        s.speed_change,
        s.turn_rate_change,
        gyro_change,
        imu.acceleration_noise,
        imu.turn_rate_noise,
        imu.turn_rate_scale,
        imu.turn_rate_bias_walk,
        s.acceleration_bias_walk,
        wheels.slip * back[0],
        wheels.slip * back[2],
        wheels.slip_time,
        s.still_time,
        s.still_spread,
        s.doubt_time,
        *imu.mount_pose,
        1.0 / imu.rate,
        *antenna,
        max(robot.scanner.rate * ALIKE_FOR, 1.0),
        *(chi_square_bound(s.gate, parts) for parts in (1, 2, 3)),
    )
    assert len(values) == PARAMETERS
    return np.array(values)


def first_state(robot: Robot, s: FusionSettings, start: FloatArray) -> FloatArray:
    state = np.zeros(MEMORY + STATES * STATES)
    state[X : HEADING + 1] = start
    state[GYRO_BIAS] = robot.imu.turn_rate_bias
    state[PUSH_BIAS_X : PUSH_BIAS_Y + 1] = robot.imu.acceleration_bias
    state[REFERENCE_X : REFERENCE_HEADING + 1] = start
    state[GYRO_T] = state[PUSH_T] = state[SCAN_T] = state[REFERENCE_T] = -np.inf
    back = np.hypot.reduce(unrolling_of(robot.drive).T)
    sideways = 0.5 if kind_of(robot.drive).goes_sideways else 0.0
    spreads = np.array(
        [
            s.start_spread,
            s.start_spread,
            s.start_spread,
            0.5,
            sideways,
            0.5,
            robot.imu.turn_rate_bias_spread,
            robot.imu.acceleration_bias_spread,
            robot.imu.acceleration_bias_spread,
            robot.wheels.slip * back[0],
            robot.wheels.slip * back[2],
            robot.imu.turn_rate_scale_spread,
            robot.wheels.scale_spread * back[0],
            robot.wheels.scale_spread * back[2],
            robot.wheels.scale_spread,
        ]
    )
    covariance = state[MEMORY:].reshape(STATES, STATES)
    known = len(spreads)
    covariance[:known, :known] = np.diag(spreads**2)
    # The reference pose is the start itself.
    reference = slice(REFERENCE_X, REFERENCE_X + 3)
    covariance[reference, :known] = covariance[:3, :known]
    covariance[:, reference] = covariance[:, :3]
    return state
