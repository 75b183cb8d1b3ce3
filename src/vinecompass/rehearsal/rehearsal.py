"""A rehearsal: the navigator drives a mission in the simulator, and the truth judges it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs import Walking
from vinecompass.geometry import transform_points, wrap_angle
from vinecompass.grids import Grid, Zone
from vinecompass.navigation import MissionLog, Navigator, Round
from vinecompass.rehearsal.live_faults import LiveFault
from vinecompass.rehearsal.odometry_feed import OdometryFeed
from vinecompass.rehearsal.recorder import Recorder
from vinecompass.robot import Command, Robot
from vinecompass.runs import Run, Track
from vinecompass.settings import Settings
from vinecompass.simulation import Simulator, Site

__all__ = ["Arrival", "Rehearsal", "rehearse"]


@dataclass(frozen=True)
class Arrival:
    """How a stop ended, by the truth.

    Parameters
    ----------
    name : str
    reached : bool
        Whether the navigator says so.
    reason : str
        Why it did not; empty if it did.
    t : float
        When, s.
    position_error, heading_error : float
        Where the robot truly stood then, off the stop, m and radians.
    """

    name: str
    reached: bool
    reason: str
    t: float
    position_error: float
    heading_error: float


@dataclass(frozen=True)
class Rehearsal:
    """What came of a mission.

    Parameters
    ----------
    arrived : bool
        Whether the navigator says that it has reached every stop.
    reason : str
        Why it did not; empty if it did.
    arrivals : list of Arrival
        Every stop in the order in which it ended.
    log : MissionLog
        States, plans, interventions of safety.
    run : Run
        Everything read and commanded, with the truth, and the odometry that was fed.
    track : Track
        Where the robot believed to be.
    settled : array of bool, (N,)
        Whether localization was settled, at the track's stamps.
    contacts : int
        Scan periods in which the body touched anything.
    velocities : array, (N, 3)
        The body's true speed ahead and to the left and its turn rate every 0.01 s.
    people : array, (N, P, 5)
        The people at the track's stamps: x, y, radius, m, velocity, m/s.
    """

    arrived: bool
    reason: str
    arrivals: list[Arrival]
    log: MissionLog
    run: Run
    track: Track
    settled: NDArray[np.bool_]
    contacts: int
    velocities: NDArray[np.float64]
    people: NDArray[np.float64]

    @property
    def plans(self) -> list[tuple[float, NDArray[np.float64]]]:
        """Every plan taken up, with its time."""
        return self.log.plans

    @property
    def position_error(self) -> float:
        """The greatest true distance from a stop when the robot said it had reached it, m; `nan` if it never did."""
        return max((each.position_error for each in self.arrivals if each.reached), default=float("nan"))

    @property
    def heading_error(self) -> float:
        """The greatest true heading error at a stop said to be reached, radians; `nan` if none was."""
        return max((each.heading_error for each in self.arrivals if each.reached), default=float("nan"))

    def gaps_to_people(self) -> NDArray[np.float64]:
        """Return how far each person's middle truly was from the body ``(N, P)``, at the track's stamps, m."""
        assert self.run.truth is not None
        outline = self.run.robot.body.polygon
        bodies = shapely.polygons([transform_points(pose, outline) for pose in self.run.truth.at(self.track.t)])
        return np.asarray(shapely.distance(np.asarray(bodies)[:, None], shapely.points(self.people[:, :, :2])))

    def largest_accelerations(self) -> tuple[float, float, float]:
        """Return the hardest speeding up, braking (m/s2) and turn acceleration (rad/s2) by the truth."""
        speed, _, turn_rate = self.velocities.T
        step = float(np.median(np.diff(self.run.truth.t))) if self.run.truth is not None else 0.01
        change = np.diff(np.abs(speed)) / step
        turning = np.abs(np.diff(turn_rate)).max() / step
        return float(max(change.max(), 0.0)), float(max(-change.min(), 0.0)), float(turning)

    def limits_kept(self) -> bool:
        """Tell whether the body, by the truth, never exceeded a speed or an acceleration of its drive."""
        speed, _, turn_rate = self.velocities.T
        speeding, braking, turning = self.largest_accelerations()
        limits = self.run.robot.drive
        rims = np.abs(self.velocities @ limits.rolling.T).max()
        return bool(
            -limits.reverse_speed - 1e-9 <= speed.min()
            and speed.max() <= limits.top_speed + 1e-9
            and rims <= limits.top_rim_speed + 1e-9
            and np.abs(turn_rate).max() <= limits.top_turn_rate + 1e-9
            and speeding <= limits.acceleration + 1e-6
            and braking <= limits.braking + 1e-6
            and turning <= limits.turn_acceleration + 1e-6
        )


def rehearse(
    site: Site,
    robot: Robot,
    grid: Grid,
    goal: Round | ArrayLike,
    *,
    start: ArrayLike | None = None,
    initial_pose: ArrayLike | None = None,
    zones: Sequence[Zone] = (),
    settings: Settings | None = None,
    seed: int = 0,
    time_limit: float = 300.0,
    fault: LiveFault | None = None,
    site_toml: str | None = None,
    on_step: Callable[[Navigator], None] | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Rehearsal:
    """Drive a round in the simulator, at the rate of the scanner, until the navigator says that it is over.

    The navigator gets scans, odometry fused of wheels and IMU, and the tracks of people; the truth is kept to judge
    it by.

    Parameters
    ----------
    site : Site
    robot : Robot
    grid : Grid
        The map it drives by.
    goal : Round, or array_like, (3,)
        The round, its stops named as in the site; or the one pose to reach, in the site frame, m and radians.
    start : array_like, (3,), optional
        Where the robot truly starts; the site's own start if not given.
    initial_pose : array_like, (3,), optional
        Where it is told that it starts; what the round says, or else the true start, if not given.
    zones : sequence of Zone
    settings : Settings, optional
    seed : int
    time_limit : float
        Seconds of simulated time.
    fault : LiveFault, optional
        What goes wrong on the way.
    site_toml : str, optional
        Kept in the run.
    on_step : callable, optional
        Called with the navigator after each of its steps, to watch it.
    progress : callable, optional

    Raises
    ------
    InputError
        The robot does not fit where it starts, a pose lies off the map, or the round names an unknown stop or dock.
    """
    s = settings or Settings()
    the_round = goal if isinstance(goal, Round) else Round.to_pose(goal)
    goals = the_round.goals(site.stop, where=site.name)
    simulator = Simulator(site, robot, start=start, seed=seed)
    told = the_round.initial_pose([*s.dock, *site.stop], simulator.pose, where="settings and site")
    navigator = Navigator(
        grid, robot, told if initial_pose is None else initial_pose, goals, zones=zones, settings=s, seed=seed
    )
    recorder = Recorder(robot, simulator.pose)
    feed = OdometryFeed(robot, settings=s.fusion)
    command = Command()
    stamps, poses, settled, people = [], [], [], []
    truths: list[NDArray[np.float64]] = []
    standing = 0
    while simulator.t < time_limit:
        readings = simulator.step(command)
        recorder.add(command, readings)
        odometry = feed.take(readings)
        recorder.add_odometry(odometry)
        t, scan = simulator.t, readings.scan
        if fault is not None:
            t, scan, odometry = fault.spoil(t, scan, odometry, simulator)
        command = navigator.step(t, scan, odometry, Walking.all_of(readings.people))
        if on_step is not None:
            on_step(navigator)
        stamps.append(simulator.t)
        poses.append(navigator.pose)
        settled.append(navigator.estimate is not None and navigator.estimate.settled)
        people.append(readings.people)
        # Where it truly stood when it said that a stop had ended.
        truths += [simulator.pose] * (len(navigator.log.stops) - len(truths))
        standing = standing + 1 if navigator.over else 0
        if standing >= 5:
            break
        if progress and len(stamps) % 20 == 0:
            progress(min(simulator.t / time_limit, 1.0), navigator.state)
    arrivals = [
        _arrival(stop.name, stop.status == "reached", stop.reason, stop.t, truth - stop.goal)
        for stop, truth in zip(navigator.log.stops, truths, strict=True)
    ]
    arrived = navigator.state == "finished"
    unfinished = f"still {navigator.state} after {time_limit:.0f} s" + (
        f": {navigator.reason}" if navigator.reason else ""
    )
    return Rehearsal(
        arrived=arrived,
        reason="" if arrived else navigator.reason if navigator.state == "failed" else unfinished,
        arrivals=arrivals,
        log=navigator.log,
        run=recorder.run(site_toml),
        track=Track(np.array(stamps), np.array(poses)),
        settled=np.array(settled),
        contacts=recorder.contacts,
        velocities=recorder.velocities,
        people=np.array(people).reshape(len(stamps), -1, 5),
    )


def _arrival(name: str, reached: bool, reason: str, t: float, off: NDArray[np.float64]) -> Arrival:
    return Arrival(name, reached, reason, t, float(np.hypot(off[0], off[1])), float(abs(wrap_angle(off[2]))))
