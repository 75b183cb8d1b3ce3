"""A rehearsal: the navigator drives a mission in the simulator, and the truth judges it."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.geometry import wrap_angle
from vinecompass.grids import Grid, Zone
from vinecompass.navigation import Navigator, Settings
from vinecompass.odometry import dead_reckon
from vinecompass.rehearsal.recorder import Recorder
from vinecompass.robot import Command, Robot
from vinecompass.runs import Run, Track, Wheels
from vinecompass.simulation import Simulator, Site

__all__ = ["Rehearsal", "rehearse"]


@dataclass(frozen=True)
class Rehearsal:
    """What came of a mission.

    Parameters
    ----------
    arrived : bool
        Whether the navigator says so.
    reason : str
        Why it did not; empty if it did.
    run : Run
        Everything read and commanded, with the truth.
    track : Track
        Where the robot believed to be.
    settled : array of bool, (N,)
        Whether localization was settled, at the track's stamps.
    plans : list of (t, poses)
        Every plan found.
    position_error, heading_error : float
        At the end, by the truth, m and radians.
    contacts : int
        Scan periods in which the body touched anything.
    velocities : array, (N, 2)
        The body's true speed and turn rate every 0.01 s.
    """

    arrived: bool
    reason: str
    run: Run
    track: Track
    settled: NDArray[np.bool_]
    plans: list[tuple[float, NDArray[np.float64]]]
    position_error: float
    heading_error: float
    contacts: int
    velocities: NDArray[np.float64]

    def largest_accelerations(self) -> tuple[float, float, float]:
        """Return the hardest speeding up, braking (m/s2) and turn acceleration (rad/s2) by the truth."""
        speed, turn_rate = self.velocities.T
        step = float(np.median(np.diff(self.run.truth.t))) if self.run.truth is not None else 0.01
        change = np.diff(np.abs(speed)) / step
        turning = np.abs(np.diff(turn_rate)).max() / step
        return float(max(change.max(), 0.0)), float(max(-change.min(), 0.0)), float(turning)

    def limits_kept(self) -> bool:
        """Tell whether the body, by the truth, never exceeded a speed or an acceleration of its drive."""
        speed, turn_rate = self.velocities.T
        speeding, braking, turning = self.largest_accelerations()
        limits = self.run.robot.drive
        return bool(
            -limits.reverse_speed - 1e-9 <= speed.min()
            and speed.max() <= limits.top_speed + 1e-9
            and np.abs(turn_rate).max() <= limits.top_turn_rate + 1e-9
            and speeding <= limits.acceleration + 1e-6
            and braking <= limits.braking + 1e-6
            and turning <= limits.turn_acceleration + 1e-6
        )


def rehearse(
    site: Site,
    robot: Robot,
    grid: Grid,
    goal: ArrayLike,
    *,
    start: ArrayLike | None = None,
    initial_pose: ArrayLike | None = None,
    zones: Sequence[Zone] = (),
    settings: Settings | None = None,
    seed: int = 0,
    time_limit: float = 300.0,
    site_toml: str | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Rehearsal:
    """Drive to a goal in the simulator, at the rate of the scanner, until the navigator says it has arrived.

    The navigator sees scans and wheels only; the truth is kept to judge it by.

    Parameters
    ----------
    site : Site
    robot : Robot
    grid : Grid
        The map it drives by.
    goal : array_like, (3,)
        In the site frame, m and radians.
    start : array_like, (3,), optional
        Where the robot truly starts; the site's own start if not given.
    initial_pose : array_like, (3,), optional
        Where it is told that it starts; the true start if not given.
    zones : sequence of Zone
    settings : Settings, optional
    seed : int
    time_limit : float
        Seconds of simulated time.
    site_toml : str, optional
        Kept in the run.
    progress : callable, optional

    Raises
    ------
    InputError
        The robot does not fit where it starts, or a pose lies off the map.
    """
    simulator = Simulator(site, robot, start=start, seed=seed)
    navigator = Navigator(
        grid, robot, simulator.pose if initial_pose is None else initial_pose, goal,
        zones=zones, settings=settings, seed=seed,
    )  # fmt: skip
    recorder = Recorder(robot, simulator.pose)
    odometry = Track(np.zeros(1), np.zeros((1, 3)))
    last_wheels = Wheels(np.zeros(1), np.zeros((1, 2)))
    command = Command()
    stamps, poses, settled = [], [], []
    plans: list[tuple[float, NDArray[np.float64]]] = []
    standing = 0
    while simulator.t < time_limit:
        readings = simulator.step(command)
        recorder.add(command, readings)
        chunk = readings.wheels
        wheels = Wheels(np.append(last_wheels.t[-1], chunk.t), np.vstack([last_wheels.angles[-1], chunk.angles]))
        odometry = dead_reckon(wheels, robot.drive, start=odometry.poses[-1])
        last_wheels = chunk
        made = navigator.plans
        command = navigator.step(simulator.t, readings.scan, odometry)
        stamps.append(simulator.t)
        poses.append(navigator.pose)
        settled.append(navigator.estimate is not None and navigator.estimate.settled)
        if navigator.plans > made and navigator.plan is not None and navigator.plan.found:
            plans.append((simulator.t, navigator.plan.poses))
        # Arrived is arrived when it stands there.
        standing = standing + 1 if navigator.state == "arrived" and command == Command() else 0
        if standing >= 5:
            break
        if progress and len(stamps) % 20 == 0:
            progress(min(simulator.t / time_limit, 1.0), navigator.phase)
    away = simulator.pose - np.asarray(goal, dtype=float)
    arrived = navigator.state == "arrived"
    return Rehearsal(
        arrived=arrived,
        reason="" if arrived else navigator.reason or f"still {navigator.phase} after {time_limit:.0f} s",
        run=recorder.run(site_toml),
        track=Track(np.array(stamps), np.array(poses)),
        settled=np.array(settled),
        plans=plans,
        position_error=float(np.hypot(away[0], away[1])),
        heading_error=float(abs(wrap_angle(away[2]))),
        contacts=recorder.contacts,
        velocities=recorder.velocities,
    )
