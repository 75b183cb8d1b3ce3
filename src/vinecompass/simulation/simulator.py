"""The simulator: a robot that moves, slips and senses in a site."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import Walking
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.files import validated
from vinecompass.geometry import wrap_angle
from vinecompass.motion import Command
from vinecompass.robot import Robot
from vinecompass.runs import Imu, Positions, Scan, Scans, Track, Wheels
from vinecompass.simulation.base import TIME_STEP, SimulatedBase
from vinecompass.simulation.people import Walker
from vinecompass.simulation.sensors import (
    SimulatedImu,
    SimulatedLidar,
    SimulatedPositioning,
    SimulatedWheels,
    steps_between,
)
from vinecompass.simulation.site import Person, Site, Solid

__all__ = ["SimulatedPeriod", "Simulator"]


@dataclass(frozen=True)
class SimulatedPeriod:
    """What was handed over while a command was held, and what really happened.

    Parameters
    ----------
    begun : float
        When the command was given, s.
    scans : Scans
        May be empty, as the streams that follow: what a sensor reads is there after its own delay.
    wheels : Wheels
    imu : Imu
    position : Positions or None
        None if the robot has no such sensor.
    truth : Track
        The body's poses in the site frame, every 0.01 s.
    velocities : array, (N, 3)
        The body's true speed ahead and to the left and turn rate at the truth's stamps, m/s and rad/s.
    people : list of Walking
        Everybody, in the site frame.
    contact : bool
        Whether the body touched anything.
    """

    begun: float
    scans: Scans
    wheels: Wheels
    imu: Imu
    position: Positions | None
    truth: Track
    velocities: NDArray[np.float64]
    people: list[Walking]
    contact: bool

    @property
    def scan(self) -> Scan:
        """The newest of the scans, of which there must be one."""
        return self.scans[-1]


class Simulator:
    """A robot in a site, told what to do again and again.

    Parameters
    ----------
    site : Site
    robot : Robot
    start : array_like, (3,), or the name of a stop, optional
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
    >>> readings = simulator.step(Command(speed=0.5), duration=0.2)
    >>> readings.scan.ranges.shape, readings.contact
    ((433,), False)

    Attributes
    ----------
    t : float
        Now, s.
    people : list of Walking
        Everybody, in the site frame.
    """

    @checked
    def __init__(self, site: Site, robot: Robot, *, start: ArrayLike | str | None = None, seed: int) -> None:
        self.site = site
        self.robot = robot
        self.t = 0.0
        self._seed = seed
        rng = np.random.default_rng(seed)
        self._walkers = [Walker(person, site.surfaces, rng) for person in site.people]
        self._base = SimulatedBase(site, robot, site.start_pose if start is None else site.pose_of(start, "start"), rng)
        body = shapely.Polygon(self._base.outline)
        for walker in self._walkers:
            walker.begin_clear_of(body)
        self.people = [walker.seen for walker in self._walkers]
        self._lidar = SimulatedLidar(site, robot.scanner, self._base.pose, rng)
        self._wheels = SimulatedWheels(robot, rng)
        self._imu = SimulatedImu(robot.imu, rng)
        self._position = None if robot.position is None else SimulatedPositioning(robot.position, rng)

    @property
    def pose(self) -> NDArray[np.float64]:
        """The true pose ``(3,)`` in the site frame, to judge by and never to steer by."""
        return self._base.pose

    @property
    def grip_factor(self) -> float:
        """What the grip of all floor is multiplied by: below 1 where it is wetter than the site file says."""
        return self._base.grip_factor

    @grip_factor.setter
    def grip_factor(self, factor: float) -> None:
        self._base.grip_factor = factor

    def put_down(self, pose: ArrayLike) -> None:
        """Carry the robot to another pose ``(3,)`` in the site frame, where it stands."""
        self._base.put_down(pose)

    def put_solid(self, polygon: Sequence[tuple[float, float]]) -> None:
        """Put a solid into the site, m in the site frame: from now on it stops the lidar and the robot.

        Raises
        ------
        InputError
            It is no polygon, or the robot or somebody stands there.
        """
        solid = validated(Solid, {"name": "put there", "polygon": list(polygon)}, "the solid")
        area = shapely.Polygon(solid.polygon)
        standing = [shapely.Polygon(self._base.outline)]
        standing += [shapely.Point(each.x, each.y).buffer(each.radius) for each in self.people]
        if any(shapely.intersects(area, each) for each in standing):
            raise InputError("is where something stands", key="polygon", expected="a free place")
        document = self.site.model_dump(by_alias=True, exclude_none=True)
        self.site = Site.model_validate(document | {"solid": [*document["solid"], solid.model_dump()]})
        self._base.use(self.site)
        self._lidar.use(self.site)

    def put_person(self, person: Person) -> None:
        """Let somebody walk in the site from now on."""
        drawn = np.random.default_rng([self._seed, len(self._walkers)])
        self._walkers.append(Walker(person, self.site.surfaces, drawn))
        self._walkers[-1].begin_clear_of(shapely.Polygon(self._base.outline))
        self.people = [walker.seen for walker in self._walkers]

    def step(self, command: Command, duration: float | None = None) -> SimulatedPeriod:
        """Hold a command and return what the sensors handed over meanwhile.

        Parameters
        ----------
        command : Command
        duration : float, optional
            Seconds, in whole steps of 0.01 s; the scanner's period if not given.
        """
        steps = steps_between(self.robot.scanner.rate if duration is None else 1.0 / duration)
        begun = self.t
        discs = Walking.rows(self.people)
        path, contacts = self._base.go_on(begun, command, steps, discs)
        times = begun + TIME_STEP * np.arange(1.0, steps + 1.0)
        self.t = round(begun + TIME_STEP * steps, 9)
        covered = shapely.Polygon(self._base.outline)
        for walker in self._walkers:
            walker.walk(TIME_STEP * steps, covered)
        self.people = [walker.seen for walker in self._walkers]
        return SimulatedPeriod(
            begun=begun,
            scans=self._lidar.read(times, path, discs),
            wheels=self._wheels.read(times, path),
            imu=self._imu.read(times, path),
            position=None if self._position is None else self._position.read(times, path),
            truth=Track(times, np.column_stack([path.poses[:, :2], wrap_angle(path.poses[:, 2])])),
            velocities=path.velocities,
            people=self.people,
            contact=contacts > 0,
        )
