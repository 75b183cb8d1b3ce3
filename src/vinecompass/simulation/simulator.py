"""The simulator: a robot that moves, slips and senses in a site."""

from __future__ import annotations

from dataclasses import dataclass
from typing import NamedTuple

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import Walking, shape_of
from vinecompass.contact.kernels import touches
from vinecompass.errors import InputError
from vinecompass.geometry import compose, interpolate_poses, transform_points, wrap_angle
from vinecompass.motion import Command, limits_of, steering_angle, wheel_places
from vinecompass.robot import Robot
from vinecompass.runs import Imu, Positions, Scan, Track, Wheels
from vinecompass.simulation.kernels import CREEPING, move_body
from vinecompass.simulation.people import Walker
from vinecompass.simulation.ray_casting import cast_beams
from vinecompass.simulation.site import Site

__all__ = ["SimulatedPeriod", "Simulator"]

TIME_STEP = 0.01
"""Seconds between two steps of the body's motion."""


class Tyres(NamedTuple):
    """The wheels of a base: their radius, m, the slip of a dry one, a share of its speed, and how long it lasts, s."""

    radius: float
    slip: float
    slip_time: float


class BaseState(NamedTuple):
    """Where a base is and how it moves, changed in place as it goes on.

    Parameters
    ----------
    pose : array, (3,)
        Of the body in the site frame; the heading runs on beyond pi.
    asked, reached : array, (3,)
        The velocity that the base asks of its wheels by now of what it was told to do, and the one that they have
        reached of that.
    velocity : array, (3,)
        The body's own.
    angles, slips, wanders : array, (wheels,)
        How far each wheel has turned, radians; its slip, a share of its speed; and the noise in that.
    """

    pose: NDArray[np.float64]
    asked: NDArray[np.float64]
    reached: NDArray[np.float64]
    velocity: NDArray[np.float64]
    angles: NDArray[np.float64]
    slips: NDArray[np.float64]
    wanders: NDArray[np.float64]


class BasePath(NamedTuple):
    """What became of a base in each time step: body's poses, wheels' angles, body's velocities."""

    poses: NDArray[np.float64]
    angles: NDArray[np.float64]
    velocities: NDArray[np.float64]


@dataclass(frozen=True)
class SimulatedPeriod:
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
    people : list of Walking
        Everybody, in the site frame.
    contact : bool
        Whether the body touched anything.
    """

    scan: Scan
    wheels: Wheels
    imu: Imu
    position: Positions | None
    truth: Track
    velocities: NDArray[np.float64]
    people: list[Walking]
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
    people : list of Walking
        Everybody, in the site frame.
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
        self._walkers = [Walker(person, site.surfaces, self._rng) for person in site.people]
        self.people = [walker.seen for walker in self._walkers]
        self._limits = limits_of(robot.drive)
        self._wheel_places = wheel_places(robot.drive)
        self._tyres = Tyres(robot.drive.wheel_radius, robot.wheels.slip, robot.wheels.slip_time)
        self._body = shape_of(robot.body)
        wheels = len(self._limits.rolling)
        begin = site.start_pose if start is None else np.array(start, dtype=float)
        self._state = BaseState(
            pose=begin,
            asked=np.zeros(3),
            reached=np.zeros(3),
            velocity=np.zeros(3),
            angles=np.zeros(wheels),
            slips=np.zeros(wheels),
            wanders=self._rng.normal(size=wheels),
        )
        self._steering = 0.0
        self._told: list[tuple[float, NDArray[np.float64]]] = [(0.0, np.zeros(3))]
        self._need_room()

    @property
    def pose(self) -> NDArray[np.float64]:
        """The true pose ``(3,)`` in the site frame, to judge by and never to steer by."""
        return np.array([*self._state.pose[:2], wrap_angle(self._state.pose[2])])

    def put_down(self, pose: ArrayLike) -> None:
        """Carry the robot to another pose ``(3,)`` in the site frame, where it stands."""
        self._state.pose[:] = np.asarray(pose, dtype=float)
        self._state.velocity[:] = 0.0
        self._need_room()

    def step(self, command: Command) -> SimulatedPeriod:
        """Hold a command for one scan period and return what the sensors read meanwhile."""
        steps = round(self.period / TIME_STEP)
        state, wheels = self._state, len(self._limits.rolling)
        before, before_velocity = state.pose.copy(), state.velocity.copy()
        discs = Walking.rows(self.people)
        path = BasePath(np.empty((steps, 3)), np.empty((steps, wheels)), np.empty((steps, 3)))
        contacts = move_body(
            state,
            self._limits,
            self._tyres,
            self._targets(command, steps),
            self._grips(),
            self._rng.normal(size=(steps, wheels)),
            TIME_STEP,
            self._body,
            self.site.segments,
            discs,
            path,
        )
        start = self.t
        self.t = round(self.t + self.period, 9)
        times = start + TIME_STEP * np.arange(1.0, steps + 1.0)
        covered = shapely.Polygon(transform_points(state.pose, self._body.outline))
        for walker in self._walkers:
            walker.walk(self.period, covered)
        self.people = [walker.seen for walker in self._walkers]
        return SimulatedPeriod(
            scan=self._scan(start, np.concatenate([[start], times]), np.vstack([before, path.poses]), discs),
            wheels=self._read_wheels(times, path),
            imu=self._read_imu(times, path, before_velocity),
            position=self._read_position(times, path),
            truth=Track(times, np.column_stack([path.poses[:, :2], wrap_angle(path.poses[:, 2])])),
            velocities=path.velocities,
            people=self.people,
            contact=contacts > 0,
        )

    def _need_room(self) -> None:
        """Raise `InputError` where the body does not fit."""
        x, y, heading = self._state.pose
        if touches(self._body, x, y, heading, self.site.segments, np.zeros((0, 5))):
            raise InputError(
                f"the body of {self.robot.name} touches a wall or solid there",
                key="start",
                value=[round(float(x), 3), round(float(y), 3), round(float(np.degrees(heading)), 1)],
                expected="a pose [x, y, heading_deg] on free floor",
            )

    def _targets(self, command: Command, steps: int) -> NDArray[np.float64]:
        """Return the velocity wanted in each time step ``(steps, 3)``: a command comes into effect after its delay."""
        self._told.append((self.t, command.velocity))
        targets = np.empty((steps, 3))
        for step in range(steps):
            middle = self.t + TIME_STEP * (step + 0.5) - self._limits.delay
            while len(self._told) > 1 and self._told[1][0] <= middle:
                self._told.pop(0)
            targets[step] = self._told[0][1]
        return targets

    def _grips(self) -> NDArray[np.float64]:
        places = transform_points(self._state.pose, self._wheel_places)
        return self.grip_factor * np.array([self.site.grip_at(x, y) for x, y in places.tolist()])

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

    def _read_wheels(self, times: NDArray[np.float64], path: BasePath) -> Wheels:
        sensor = self.robot.wheels
        every = _steps_between(sensor.rate)
        tick = 2.0 * np.pi / sensor.ticks_per_turn
        angles = np.floor(path.angles[every - 1 :: every] / tick) * tick
        return Wheels(times[every - 1 :: every], angles, self._read_steering(path.velocities[every - 1 :: every]))

    def _read_steering(self, velocities: NDArray[np.float64]) -> NDArray[np.float64] | None:
        """Return the angle of a car's steered wheels at velocities ``(N, 3)``: as it stands, they stay as they are."""
        if not self.robot.drive.steered:
            return None
        steering = steering_angle(self.robot.drive, velocities)
        for i, speed in enumerate(np.abs(velocities[:, 0]).tolist()):
            if speed > CREEPING:
                self._steering = float(steering[i])
            steering[i] = self._steering
        return steering

    def _read_imu(self, times: NDArray[np.float64], path: BasePath, before: NDArray[np.float64]) -> Imu:
        sensor = self.robot.imu
        every = _steps_between(sensor.rate)
        ends = np.vstack([before, path.velocities])
        speed, sideways, turn_rate = (0.5 * (ends[1:] + ends[:-1])).T
        change = (ends[1:] - ends[:-1]) / TIME_STEP
        x, y, heading = sensor.mount_pose
        # Off the body's origin the turning adds its own accelerations.
        ahead = change[:, 0] - sideways * turn_rate - turn_rate**2 * x - change[:, 2] * y
        left = change[:, 1] + speed * turn_rate + change[:, 2] * x - turn_rate**2 * y
        cosine, sine = np.cos(heading), np.sin(heading)
        truth = np.stack(
            [sensor.turn_rate_scale * turn_rate, cosine * ahead + sine * left, cosine * left - sine * ahead]
        )
        means = truth[:, : len(times) // every * every].reshape(3, -1, every).mean(axis=2)
        bias = np.array([[sensor.turn_rate_bias], [sensor.acceleration_bias[0]], [sensor.acceleration_bias[1]]])
        spread = np.array([[sensor.turn_rate_noise], [sensor.acceleration_noise], [sensor.acceleration_noise]])
        readings = means + bias + spread * self._rng.normal(size=means.shape)
        return Imu(times[every - 1 :: every], *readings)

    def _read_position(self, times: NDArray[np.float64], path: BasePath) -> Positions | None:
        sensor = self.robot.position
        if sensor is None:
            return None
        # Its rate may be below the scans': fixes fall on whole multiples of its own period.
        steps = np.round(times / TIME_STEP).astype(int)
        due = steps % _steps_between(sensor.rate) == 0
        antenna = compose(path.poses[due], [*sensor.mount, 0.0])[:, :2]
        x, y = (antenna + sensor.noise * self._rng.normal(size=antenna.shape)).T
        return Positions(times[due], x, y)


def _steps_between(rate: float) -> int:
    return max(round(1.0 / (rate * TIME_STEP)), 1)
