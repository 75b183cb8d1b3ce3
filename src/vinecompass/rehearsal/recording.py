"""Record a drive: someone drives the robot along a route by sight, and everything is kept."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import ArrayLike

from vinecompass.errors import InputError
from vinecompass.following import PathFollower
from vinecompass.geometry import distance_along, polyline_headings, relative, resample_polyline, transform_points
from vinecompass.links import Recorder
from vinecompass.motion import Command
from vinecompass.navigation import Safety
from vinecompass.odometry import deskewed_hits, motion_at
from vinecompass.robot import Robot
from vinecompass.runs import Run
from vinecompass.settings import FollowingSettings, SafetySettings
from vinecompass.simulation import Simulator, Site

__all__ = ["record_drive"]


STANDING_FIRST = 3.0
"""Seconds for which the robot stands before it drives off, as one should: standing still shows a gyro's bias."""


def record_drive(
    site: Site,
    robot: Robot,
    route: ArrayLike,
    *,
    seed: int,
    site_toml: str | None = None,
    cruise_speed: float = 0.9,
    progress: Callable[[float, str], None] | None = None,
) -> Run:
    """Simulate a drive along a route and return it as a run, with the truth.

    It stands still for three seconds first. The driver sees where the robot really is, as a person beside it does,
    and stops for people in the way.

    Parameters
    ----------
    site : Site
    robot : Robot
    route : array_like, (N, 2)
        Corners of the route in the site frame, m. It begins where the robot is parked.
    seed : int
        Of noise, slip and people.
    site_toml : str, optional
        The site's file, to be kept in the run so that maps can be compared with it.
    cruise_speed : float
        Metres per second.
    progress : callable, optional
        Called with the share done, 0 to 1, and a word.

    Raises
    ------
    InputError
        The robot does not fit where it starts, or it was held up on the way for good.
    """
    simulator = Simulator(site, robot, seed=seed)
    start = simulator.pose
    points = resample_polyline(np.vstack([start[:2], np.asarray(route, dtype=float)]), 0.1)
    follower = PathFollower(robot, settings=FollowingSettings(cruise_speed=cruise_speed, look_ahead=0.3))
    follower.follow(np.column_stack([points, polyline_headings(points)]))
    safety = Safety(robot, settings=SafetySettings(delay=simulator.period))
    recorder = Recorder(robot, start)
    for _ in range(round(STANDING_FIRST * robot.scanner.rate)):
        recorder.add(Command(), simulator.step(Command()))
    length = float(distance_along(points)[-1])
    time_limit = STANDING_FIRST + 60.0 + 4.0 * length / cruise_speed
    command = Command()
    while follower.phase != "arrived":
        readings = simulator.step(command)
        recorder.add(command, readings)
        motion = motion_at(readings.truth, readings.scan.t, robot.scanner)
        seen = deskewed_hits(readings.scan.ranges, robot.scanner, motion.sweep)
        seen = transform_points(relative(motion.pose, simulator.pose), seen)
        wanted = follower.step(simulator.pose, command, simulator.period).command
        command = safety.check(
            simulator.t,
            wanted,
            command,
            seen,
            duration=simulator.period,
            pose=simulator.pose,
            people=readings.people,
        )
        if simulator.t > time_limit:
            x, y, _ = simulator.pose
            raise InputError(
                f"the robot was held up at {x:.1f}, {y:.1f} for good",
                key="route",
                expected="points with room for the robot on the lines between them",
            )
        if progress and len(follower.remaining) % 10 == 0:
            progress(1.0 - len(follower.remaining) / len(points), "simulating")
    recorder.add(command, simulator.step(command))
    return recorder.run(site_toml)
