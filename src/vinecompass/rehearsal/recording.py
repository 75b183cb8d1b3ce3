"""Record a drive: someone drives the robot along a route by sight, and everything is kept."""

from __future__ import annotations

from collections.abc import Callable, Sequence

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import Walking
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.following import PathFollower
from vinecompass.geometry import (
    checked_points,
    compose,
    distance_along,
    polyline_headings,
    relative,
    resample_polyline,
    rounded_polyline,
    transform_points,
)
from vinecompass.links import Recorder
from vinecompass.motion import Command, limits_of
from vinecompass.navigation import CommandDelay, Safety
from vinecompass.odometry import deskewed_hits, motion_at
from vinecompass.robot import Robot
from vinecompass.runs import Run, Track, joined, rows_of
from vinecompass.settings import FollowingSettings, SafetySettings
from vinecompass.simulation import Simulator, Site

__all__ = ["record_drive"]

FloatArray = NDArray[np.float64]
STANDING_FIRST = 3.0
"""Seconds for which the robot stands before it drives off, as one should: standing still shows a gyro's bias."""
ROUNDED = 1.2
"""Times its turning radius with which a car rounds a route's corners, so that it can still steer."""
TRUTH_KEPT = 1.0
"""Seconds of its true way that the driver remembers: a scan may be that old."""
IN_THE_WAY = 1.0
"""Metres from the body within which a person is what holds the robot up."""
LAST_CYCLES = 3
"""Scan periods that are recorded yet when it has arrived: what was read last is still on its way."""


@checked
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
    simulator, period = Simulator(site, robot, seed=seed), 1.0 / robot.scanner.rate
    start = simulator.pose
    limits = limits_of(robot.drive)
    corners = np.vstack([start[:2], checked_points(route, "route")])
    points = resample_polyline(rounded_polyline(corners, ROUNDED * limits.turning_radius, 0.1), 0.1)
    follower = PathFollower(robot, settings=FollowingSettings(cruise_speed=cruise_speed, look_ahead=0.3))
    follower.follow(np.column_stack([points, polyline_headings(points)]))
    safety = Safety(robot, settings=SafetySettings(delay=period))
    recorder = Recorder(robot, start)
    delay = CommandDelay(robot.drive.delay + robot.drive.lag)
    length = float(distance_along(points)[-1])
    time_limit = STANDING_FIRST + 60.0 + 4.0 * length / cruise_speed
    command, truth, scan = Command(), Track(np.zeros(1), start[None]), None
    # A route ends at a place: that a car cannot turn to the last heading there does not matter.
    ends = ("arrived",) if limits.turns_on_the_spot else ("arrived", "missed")
    while follower.phase not in ends:
        delay.sent(simulator.t, command)
        readings = simulator.step(command)
        recorder.add(command, readings)
        truth = joined([rows_of(truth, truth.t > simulator.t - TRUTH_KEPT), readings.truth])
        scan = readings.scan if len(readings.scans) else scan
        if simulator.t < STANDING_FIRST or scan is None:
            continue
        # Where it will be by the time at which a command takes hold.
        pose = compose(simulator.pose, delay.way(simulator.t))
        motion = motion_at(truth, scan.t, robot.scanner)
        seen = deskewed_hits(scan.ranges, robot.scanner, motion.sweep)
        seen = transform_points(relative(motion.pose, pose), seen)
        wanted = follower.step(pose, command, period).command
        command = safety.check(
            simulator.t,
            wanted,
            command,
            seen,
            duration=period,
            pose=pose,
            people=readings.people,
        )
        if simulator.t > time_limit:
            raise _held_up(simulator.pose, readings.people, corners, robot)
        if progress and len(follower.remaining) % 10 == 0:
            progress(1.0 - len(follower.remaining) / len(points), "simulating")
    for _ in range(LAST_CYCLES):
        recorder.add(Command(), simulator.step(Command()))
    return recorder.run(site_toml)


def _held_up(pose: FloatArray, people: Sequence[Walking], corners: FloatArray, robot: Robot) -> InputError:
    """Return what to say of a robot that is held up for good at a pose ``(3,)`` on its route: by whom, or by what."""
    x, y = pose[:2].tolist()
    reach = robot.body.outer_radius + IN_THE_WAY
    said = f"the robot was held up at {x:.1f}, {y:.1f} for good"
    person = min(people, key=lambda each: np.hypot(each.x - x, each.y - y), default=None)
    if person is not None and np.hypot(person.x - x, person.y - y) < reach:
        return InputError(
            f"{said}: {person.name or 'a person'} stays in its way", key="route", expected="a way past people"
        )
    radius = limits_of(robot.drive).turning_radius
    corner = min(range(1, len(corners) - 1), key=lambda i: np.hypot(*(corners[i] - pose[:2])), default=0)
    if corner and radius > 0.0 and np.hypot(*(corners[corner] - pose[:2])) < reach + radius:
        (at_x, at_y), curves = corners[corner].tolist(), f"curves of {radius:g} m, on which it turns"
        return InputError(f"{said}, about the corner {at_x:g}, {at_y:g}", key="route", expected=f"room for {curves}")
    return InputError(said, key="route", expected="points with room for the robot on the lines between them")
