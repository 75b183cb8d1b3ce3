"""A rehearsal: the navigator drives a mission in the simulator, and the truth judges it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from time import perf_counter

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import Walking
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import transform_points, wrap_angle
from vinecompass.grids import Grid, Zone
from vinecompass.links import LiveFault, Readings, RobotLink, SimulatedLink, Witness
from vinecompass.motion import Command, limits_of
from vinecompass.navigation import MissionLog, Navigator, Round
from vinecompass.robot import Robot
from vinecompass.runs import Commands, Run, Scans, Track
from vinecompass.settings import Settings
from vinecompass.simulation import Site

__all__ = ["Arrival", "Rehearsal", "rehearse", "rehearse_mission"]

STANDING_FOR = 0.5
"""Seconds for which it is watched after its round is over: it must stand."""
PROGRESS_EVERY = 20
"""Cycles between two words of progress."""


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
        Cycles in which the body touched anything.
    velocities : array, (N, 3)
        The body's true speed ahead and to the left and its turn rate every 0.01 s.
    people : array, (N, P, 5)
        The people at the track's stamps: x, y, radius, m, velocity, m/s.
    computing : array, (N,)
        How long each step of the navigator took, s.
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
    computing: NDArray[np.float64]

    def __repr__(self) -> str:
        """Return it in one line."""
        outcome = "arrived" if self.arrived else f"not arrived: {self.reason or 'out of time'}"
        seconds = self.track.t[-1] - self.track.t[0]
        return f"<Rehearsal of {seconds:.0f} s, {len(self.arrivals)} stops, {self.contacts} contacts, {outcome}>"

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
        """Tell whether the body, by the truth, never exceeded a speed or an acceleration of its drive.

        Raises
        ------
        InputError
            Its true velocities are not known.
        """
        if len(self.velocities) == 0:
            raise InputError("are not known", key="velocities", expected="a mission over a link that knows the truth")
        speed, _, turn_rate = self.velocities.T
        speeding, braking, turning = self.largest_accelerations()
        limits = limits_of(self.run.robot.drive)
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


@checked
def rehearse(
    link: RobotLink,
    navigator: Navigator,
    *,
    time_limit: float = 300.0,
    site_toml: str | None = None,
    watch: Callable[[Navigator], None] | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Rehearsal:
    """Let a navigator drive over a link until it says that its round is over.

    Neither knows what stands behind the other. If the link is a `Witness`, the truth judges the mission; of another one
    (a real robot's) nothing is known but what it read.

    Parameters
    ----------
    link : RobotLink
    navigator : Navigator
    time_limit : float
        Seconds of the link's time.
    site_toml : str, optional
        Kept in the run.
    watch : callable, optional
        Called with the navigator after each of its steps.
    progress : callable, optional
        Called with the share done, 0 to 1, and a word.

    Examples
    --------
    >>> from vinecompass import SimulatedLink, demo_file, grid_from_polygons, read_robot, read_site
    >>> site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
    >>> room = grid_from_polygons([(32, 17), (41, 17), (41, 26), (32, 26)], [], cell_size=0.05)
    >>> link = SimulatedLink(site, robot, seed=1)
    >>> mission = rehearse(link, Navigator(room, robot, link.pose, [36.9, 24.0, -1.57], seed=1), time_limit=1.0)
    >>> mission.arrived, len(mission.track)
    (False, 18)
    """
    if time_limit <= 0.0:
        raise InputError("is no time", key="time_limit", value=time_limit, expected="seconds above 0")
    witness = link if isinstance(link, Witness) else None
    lidar = navigator.robot.scanner.name
    kept = _Kept()
    command, over_since, t = Command(), np.inf, 0.0
    while t < time_limit:
        readings = link.exchange(command)
        t = readings.t if witness is None else witness.t
        told = command
        begun = perf_counter()
        command = navigator.step(readings.t, readings.scans[lidar], readings.odometry, readings.people)
        kept.computing.append(perf_counter() - begun)
        if watch is not None:
            watch(navigator)
        kept.add(t, readings, told, navigator, None if witness is None else witness.pose)
        over_since = min(over_since, t) if navigator.over else np.inf
        if t - over_since >= STANDING_FOR or readings.last:
            break
        if progress and len(kept.stamps) % PROGRESS_EVERY == 0:
            progress(min(t / time_limit, 1.0), navigator.state)
    run = kept.run(navigator.robot, lidar) if witness is None else witness.run(site_toml)
    return _judged(kept, navigator, run, witness, time_limit)


@checked
def rehearse_mission(
    site: Site,
    robot: Robot,
    grid: Grid,
    goal: Round | ArrayLike | str,
    *,
    start: ArrayLike | str | None = None,
    initial_pose: ArrayLike | str | None = None,
    zones: Sequence[Zone] | None = None,
    settings: Settings | None = None,
    seed: int = 0,
    time_limit: float = 300.0,
    fault: LiveFault | None = None,
    site_toml: str | None = None,
    watch: Callable[[Navigator], None] | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Rehearsal:
    """Drive a round in the simulator, at ``navigation.rate``, until the navigator says that it is over.

    The navigator gets scans, odometry fused of wheels and IMU, and the tracks of people; the truth is kept to judge
    it by. For another robot or navigator, make both and call `rehearse`.

    Parameters
    ----------
    site : Site
    robot : Robot
    grid : Grid
        The map it drives by.
    goal : Round, or array_like, (3,), or the name of a stop
        The round, its stops named as in the site; or the one pose to reach, in the site frame, m and radians.
    start : array_like, (3,), or the name of a stop, optional
        Where the robot truly starts; the site's own start if not given.
    initial_pose : array_like, (3,), or the name of a stop, optional
        Where it is told that it starts; what the round says, or else the true start, if not given.
    zones : sequence of Zone, optional
        The site's own if not given.
    settings : Settings, optional
    seed : int
    time_limit : float
        Seconds of simulated time.
    fault : LiveFault, optional
        What goes wrong on the way.
    site_toml, watch, progress
        As in `rehearse`.

    Raises
    ------
    InputError
        The robot does not fit where it starts, a pose lies off the map, or the round names an unknown stop or dock.
    """
    s = settings or Settings()
    the_round = (
        goal
        if isinstance(goal, Round)
        else Round.to_pose(site.pose_of(goal, "goal"), goal if isinstance(goal, str) else "goal")
    )
    goals = the_round.goals(site.stops, where=site.name)
    link = SimulatedLink(site, robot, seed=seed, rate=s.navigation.rate, start=start, fusion=s.fusion, fault=fault)
    told = the_round.initial_pose([*s.docks, *site.stops], link.pose, where="settings and site")
    navigator = Navigator(
        grid,
        robot,
        told if initial_pose is None else site.pose_of(initial_pose, "initial_pose"),
        goals,
        zones=site.zones if zones is None else zones,
        settings=s,
        seed=seed,
    )
    return rehearse(link, navigator, time_limit=time_limit, site_toml=site_toml, watch=watch, progress=progress)


class _Kept:
    """What is kept of each cycle."""

    def __init__(self) -> None:
        self.stamps: list[float] = []
        self.poses: list[NDArray[np.float64]] = []
        self.settled: list[bool] = []
        self.people: list[NDArray[np.float64]] = []
        self.at_stops: list[NDArray[np.float64]] = []
        self.computing: list[float] = []
        self._readings: list[Readings] = []
        self._commands: list[Command] = []

    def add(
        self, t: float, readings: Readings, told: Command, navigator: Navigator, pose: NDArray[np.float64] | None
    ) -> None:
        """Keep a cycle in which a command was carried out; `pose` is the true one, None where nobody knows."""
        self.stamps.append(t)
        self.poses.append(navigator.pose)
        self.settled.append(navigator.estimate is not None and navigator.estimate.settled)
        self.people.append(Walking.rows(readings.people))
        # Where it truly stood when it said that a stop had ended.
        truth = np.full(3, np.nan) if pose is None else pose
        self.at_stops += [truth] * (len(navigator.log.stops) - len(self.at_stops))
        if pose is None:
            self._readings.append(readings)
            self._commands.append(told)

    def run(self, robot: Robot, lidar: str) -> Run:
        """Return what was exchanged over a link that knows no truth as a run."""
        scans = {scan.t: scan.ranges for scan in (each.scans[lidar] for each in self._readings)}
        odometry = {
            t: pose for each in self._readings for t, pose in zip(each.odometry.t, each.odometry.poses, strict=True)
        }
        return Run(
            robot=robot,
            start=self.poses[0],
            scans=Scans(np.array(list(scans)), np.array(list(scans.values()))),
            odometry=Track(np.array(list(odometry)), np.array(list(odometry.values()))),
            commands=Commands(
                np.array(self.stamps),
                np.array([each.speed for each in self._commands]),
                np.array([each.turn_rate for each in self._commands]),
            ),
            as_recorded=True,
        )


def _judged(kept: _Kept, navigator: Navigator, run: Run, witness: Witness | None, time_limit: float) -> Rehearsal:
    """Return what came of a mission, by the truth as far as it is known."""
    arrived = navigator.state == "finished"
    why = f": {navigator.reason}" if navigator.reason else ""
    unfinished = f"still {navigator.state} after {time_limit:.0f} s{why}"
    return Rehearsal(
        arrived=arrived,
        reason="" if arrived else navigator.reason if navigator.state == "failed" else unfinished,
        arrivals=[
            _arrival(stop.name, stop.status == "reached", stop.reason, stop.t, truth - stop.goal)
            for stop, truth in zip(navigator.log.stops, kept.at_stops, strict=True)
        ],
        log=navigator.log,
        run=run,
        track=Track(np.array(kept.stamps), np.array(kept.poses)),
        settled=np.array(kept.settled),
        contacts=0 if witness is None else witness.contacts,
        velocities=np.zeros((0, 3)) if witness is None else witness.velocities,
        people=_aligned(kept.people),
        computing=np.array(kept.computing),
    )


def _aligned(rows: list[NDArray[np.float64]]) -> NDArray[np.float64]:
    """Return people ``(N, P, 5)``, `nan` where fewer of them were seen."""
    most = max((len(each) for each in rows), default=0)
    people = np.full((len(rows), most, 5), np.nan)
    for row, each in zip(people, rows, strict=True):
        row[: len(each)] = each
    return people


def _arrival(name: str, reached: bool, reason: str, t: float, off: NDArray[np.float64]) -> Arrival:
    return Arrival(name, reached, reason, t, float(np.hypot(off[0], off[1])), float(abs(wrap_angle(off[2]))))
