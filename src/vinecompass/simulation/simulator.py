"""The simulator: a robot that moves, slips and senses in a site."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray

from vinecompass.errors import InputError
from vinecompass.geometry import compose, interpolate_poses, transform_points, wrap_angle
from vinecompass.robot import Command, Robot
from vinecompass.runs import Imu, Positions, Scan, Track, Wheels
from vinecompass.simulation.kernels import move_body, touches
from vinecompass.simulation.people import Walker
from vinecompass.simulation.ray_casting import cast_beams
from vinecompass.simulation.site import Site

__all__ = ["Readings", "Simulator"]

STEP = 0.01
"""Seconds between two steps of the body's motion."""


@dataclass(frozen=True)
class Readings:
    """What one scan period brought, and what really happened.

    Parameters
    ----------
    scan : Scan
        Begun at the start of the period.
    wheels : Wheels
    imu : Imu
    position : Positions or None
        May be empty: fixes come less often than scans.
    truth : Track
        The body's poses in the site frame, every 0.01 s.
    velocities : array, (N, 3)
        The body's true speed ahead and to the left and turn rate at the truth's stamps, m/s and rad/s.
    people : array, (P, 5)
        x, y, radius of each person, m, and their velocity, m/s, in the site frame.
    contact : bool
        Whether the body touched anything.
    """

    scan: Scan
    wheels: Wheels
    imu: Imu
    position: Positions | None
    truth: Track
    velocities: NDArray[np.float64]
    people: NDArray[np.float64]
    contact: bool


class Simulator:
    """A robot in a site, advanced one scan period at a time.

    Parameters
    ----------
    site : Site
    robot : Robot
    start : array_like, (3,), optional
        Pose in the site frame; the site's own start if not given.
    seed : int
        Of all noise, slip and people.

    Raises
    ------
    InputError
        The body does not fit where it starts.

    Examples
    --------
    >>> from vinecompass import demo_file, read_robot, read_site
    >>> simulator = Simulator(read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml")), seed=1)
    >>> readings = simulator.step(Command(speed=0.5))
    >>> readings.scan.ranges.shape, readings.contact
    ((433,), False)

    Attributes
    ----------
    grip_factor : float
        What the grip of all floor is multiplied by: below 1 where it is wetter than the site file says.
    """

    def __init__(self, site: Site, robot: Robot, *, start: ArrayLike | None = None, seed: int) -> None:
        self.site = site
        self.robot = robot
        self.t = 0.0
        self.grip_factor = 1.0
        self.period = 1.0 / robot.scanner.rate
        self._rng = np.random.default_rng(seed)
        shares = np.unique(site.lets_by[site.lets_by > 0.0])[::-1]
        self._glass = [(share, site.segments[site.lets_by < share]) for share in shares]
        self._walkers = [Walker(person, site.surfaces, self._rng) for person in site.person]
        self._state = np.zeros(13)
        self._state[:3] = site.start_pose if start is None else np.asarray(start, dtype=float)
        self._state[9:11] = self._rng.normal(size=2)
        robot.need_differential("the simulator")
        drive, sensor = robot.drive, robot.wheels
        self._limits = np.array([drive.acceleration, drive.braking, drive.turn_acceleration])
        self._wheels = np.array([drive.track_width, drive.wheel_radius, sensor.slip, sensor.slip_time])
        self._need_room()

    @property
    def pose(self) -> NDArray[np.float64]:
        """The true pose ``(3,)`` in the site frame, to judge by and never to steer by."""
        return np.array([*self._state[:2], wrap_angle(self._state[2])])

    @property
    def people(self) -> NDArray[np.float64]:
        """The people ``(P, 5)``: x, y, radius, m, and velocity, m/s, in the site frame."""
        rows = [[*walker.position, walker.radius, *walker.velocity] for walker in self._walkers]
        return np.array(rows).reshape(-1, 5)

    def put_down(self, pose: ArrayLike) -> None:
        """Carry the robot to another pose ``(3,)`` in the site frame, where it stands."""
        self._state[:3] = np.asarray(pose, dtype=float)
        self._state[11:13] = 0.0
        self._need_room()

    def step(self, command: Command) -> Readings:
        """Hold a command for one scan period and return what the sensors read meanwhile."""
        steps = round(self.period / STEP)
        state, body = self._state, self.robot.body
        before = state.copy()
        discs = np.ascontiguousarray(self.people[:, :3])
        path = np.empty((steps, 7))
        contacts = move_body(
            state,
            np.array([command.speed, command.turn_rate]),
            self._limits,
            self._wheels,
            self._grips(),
            self._rng.normal(size=(steps, 2)),
            STEP,
            body.polygon,
            body.outer_radius,
            self.site.segments,
            discs,
            path,
        )
        start = self.t
        self.t = round(self.t + self.period, 9)
        times = start + STEP * np.arange(1.0, steps + 1.0)
        covered = shapely.Polygon(transform_points(state[:3], body.polygon))
        for walker in self._walkers:
            walker.walk(self.period, covered)
        return Readings(
            scan=self._scan(start, np.concatenate([[start], times]), np.vstack([before[:3], path[:, :3]]), discs),
            wheels=self._read_wheels(times, path),
            imu=self._read_imu(times, path, before[11:13]),
            position=self._read_position(times, path),
            truth=Track(times, np.column_stack([path[:, :2], wrap_angle(path[:, 2])])),
            velocities=np.column_stack([path[:, 5], np.zeros(steps), path[:, 6]]),
            people=self.people,
            contact=contacts > 0,
        )

    def _need_room(self) -> None:
        """Raise `InputError` where the body does not fit."""
        body = self.robot.body
        x, y, heading = self._state[:3]
        if touches(body.polygon, body.outer_radius, x, y, heading, self.site.segments, np.zeros((0, 3))):
            raise InputError(
                f"the body of {self.robot.name} touches a wall or solid there",
                key="start",
                value=[round(float(x), 3), round(float(y), 3), round(float(np.degrees(heading)), 1)],
                expected="a pose [x, y, heading_deg] on free floor",
            )

    def _grips(self) -> NDArray[np.float64]:
        x, y, heading = self._state[:3]
        half = self._wheels[0] / 2.0
        left = np.array([-np.sin(heading), np.cos(heading)]) * half
        grips = [self.site.grip_at(x + left[0], y + left[1]), self.site.grip_at(x - left[0], y - left[1])]
        return self.grip_factor * np.array(grips)

    def _scan(
        self, t: float, times: NDArray[np.float64], poses: NDArray[np.float64], people: NDArray[np.float64]
    ) -> Scan:
        lidar = self.robot.scanner
        fired_from = interpolate_poses(t + lidar.beam_delays, times, poses)
        ranges = cast_beams(self.site.segments, fired_from, lidar, people=people)
        for share, behind_it in self._glass:
            # Some of the beams see what lies behind the glass.
            behind = cast_beams(behind_it, fired_from, lidar, people=people)
            ranges = np.where(self._rng.random(lidar.beams) < share, behind, ranges)
        in_reach = np.isfinite(ranges)
        spread = lidar.range_noise + lidar.range_noise_per_metre * np.where(in_reach, ranges, 0.0)
        ranges = ranges + spread * self._rng.normal(size=lidar.beams)
        ranges[ranges > lidar.farthest] = np.inf
        ranges[(ranges < lidar.nearest) | (self._rng.random(lidar.beams) < lidar.dropout)] = np.nan
        return Scan(t, ranges.astype(np.float32))

    def _read_wheels(self, times: NDArray[np.float64], path: NDArray[np.float64]) -> Wheels:
        sensor = self.robot.wheels
        every = _steps_between(sensor.rate)
        tick = 2.0 * np.pi / sensor.ticks_per_turn
        return Wheels(times[every - 1 :: every], np.floor(path[every - 1 :: every, 3:5] / tick) * tick)

    def _read_imu(self, times: NDArray[np.float64], path: NDArray[np.float64], before: NDArray[np.float64]) -> Imu:
        sensor = self.robot.imu
        every = _steps_between(sensor.rate)
        ends = np.vstack([before, path[:, 5:7]])
        (speed, turn_rate), change = (0.5 * (ends[1:] + ends[:-1])).T, (ends[1:] - ends[:-1]) / STEP
        x, y, heading = sensor.mount_pose
        # Off the body's origin the turning adds its own accelerations.
        ahead = change[:, 0] - turn_rate**2 * x - change[:, 1] * y
        left = speed * turn_rate + change[:, 1] * x - turn_rate**2 * y
        cosine, sine = np.cos(heading), np.sin(heading)
        truth = np.stack(
            [sensor.turn_rate_scale * turn_rate, cosine * ahead + sine * left, cosine * left - sine * ahead]
        )
        means = truth[:, : len(times) // every * every].reshape(3, -1, every).mean(axis=2)
        bias = np.array([[sensor.turn_rate_bias], [sensor.acceleration_bias[0]], [sensor.acceleration_bias[1]]])
        spread = np.array([[sensor.turn_rate_noise], [sensor.acceleration_noise], [sensor.acceleration_noise]])
        readings = means + bias + spread * self._rng.normal(size=means.shape)
        return Imu(times[every - 1 :: every], *readings)

    def _read_position(self, times: NDArray[np.float64], path: NDArray[np.float64]) -> Positions | None:
        sensor = self.robot.position
        if sensor is None:
            return None
        # Its rate may be below the scans': fixes fall on whole multiples of its own period.
        steps = np.round(times / STEP).astype(int)
        due = steps % _steps_between(sensor.rate) == 0
        antenna = compose(path[due, :3], [*sensor.mount, 0.0])[:, :2]
        x, y = (antenna + sensor.noise * self._rng.normal(size=antenna.shape)).T
        return Positions(times[due], x, y)


def _steps_between(rate: float) -> int:
    return max(round(1.0 / (rate * STEP)), 1)
