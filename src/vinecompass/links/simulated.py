"""The simulator as a robot: readings with their noise and their faults, and the truth kept apart."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.door import checked
from vinecompass.links.link import Readings
from vinecompass.links.live_faults import LiveFault
from vinecompass.links.odometry_feed import OdometryFeed
from vinecompass.links.recorder import Recorder
from vinecompass.motion import Command
from vinecompass.robot import Robot
from vinecompass.runs import Run, Scan, Track
from vinecompass.settings import FusionSettings
from vinecompass.simulation import Simulator, Site

__all__ = ["SimulatedLink"]


class SimulatedLink:
    """A simulated robot that is told what to do some times a second; a `Witness` besides.

    Its odometry is wheels and IMU, fused as they come in.

    Parameters
    ----------
    site : Site
    robot : Robot
    seed : int
    rate : float
        How often it is told what to do, Hz, whatever the rates of its sensors.
    start : array_like, (3,), or the name of a stop, optional
        Where it truly starts, in the site frame; the site's own start if not given.
    fusion : FusionSettings, optional
    fault : LiveFault, optional
        What goes wrong on the way.

    Raises
    ------
    InputError
        The robot does not fit where it starts.

    Examples
    --------
    >>> from vinecompass import Command, demo_file, read_robot, read_site
    >>> link = SimulatedLink(read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml")), seed=1)
    >>> readings = link.exchange(Command(speed=0.5))
    >>> sorted(readings.scans), readings.t, len(readings.odometry) > 1
    (['front'], 0.15, True)
    """

    @checked
    def __init__(
        self,
        site: Site,
        robot: Robot,
        *,
        seed: int,
        rate: float = 20.0,
        start: ArrayLike | str | None = None,
        fusion: FusionSettings | None = None,
        fault: LiveFault | None = None,
    ) -> None:
        self._simulator = Simulator(site, robot, start=start, seed=seed)
        self._cycle = 1.0 / rate
        self._lidar = robot.scanner.name
        self._scan: Scan | None = None
        self._feed = OdometryFeed(robot, settings=fusion)
        self._recorder = Recorder(robot, self._simulator.pose)
        self._fault = fault

    def exchange(self, command: Command) -> Readings:
        """Hold a command for one cycle, the first time until there is a whole scan, and return what was read."""
        odometry = self._go_on(command)
        while self._scan is None:
            odometry = self._go_on(command)
        t, scan = self._simulator.t, self._scan
        if self._fault is not None:
            t, scan, odometry = self._fault.spoil(t, scan, odometry, self._simulator)
        return Readings(t, {self._lidar: scan}, odometry, self._simulator.people)

    def _go_on(self, command: Command) -> Track:
        """Hold a command for one cycle, and return the odometry until now."""
        period = self._simulator.step(command, self._cycle)
        self._scan = period.scan if len(period.scans) else self._scan
        odometry = self._feed.take(period)
        self._recorder.add(command, period)
        self._recorder.add_odometry(odometry)
        return odometry

    @property
    def simulator(self) -> Simulator:
        """What stands behind it: the world that may be changed while the robot drives."""
        return self._simulator

    @property
    def t(self) -> float:
        """The simulated time, s."""
        return self._simulator.t

    @property
    def pose(self) -> NDArray[np.float64]:
        """The true pose ``(3,)`` in the site frame."""
        return self._simulator.pose

    @property
    def contacts(self) -> int:
        """Cycles in which the body touched anything."""
        return self._recorder.contacts

    @property
    def velocities(self) -> NDArray[np.float64]:
        """The body's true velocities ``(N, 3)``, 0.01 s apart."""
        return self._recorder.velocities

    def run(self, site_toml: str | None = None) -> Run:
        """Return all that was read and commanded, with the truth, as a run."""
        return self._recorder.run(site_toml)
