"""A mission in the second world: the navigator is stepped as on a robot, and judged by what is so."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy.sparse.csgraph import dijkstra
from scipy.spatial import cKDTree
from shapely.affinity import affine_transform

from benchmarks.other_world.base import OtherBase
from benchmarks.other_world.recorder import spun
from benchmarks.other_world.robots import OtherRobot
from benchmarks.other_world.scanner import look
from benchmarks.other_world.sites import OtherSite
from vinecompass import Grid, Navigator, Scan, Track, grid_from_polygons

__all__ = ["Input", "Mission", "Outcome", "draw_mission", "drive", "map_of"]

FloatArray = NDArray[np.float64]
TRACK_KEPT = 1.5
"""Seconds of odometry that are handed over."""
LATENCY = 0.02
"""Seconds from the end of a sweep until the scan is there."""
MOVING = 0.005
"""m/s or rad/s from which a contact is the robot's own doing."""
WALKER_RADIUS = 0.25
"""Metres."""


@dataclass
class Input:
    """What the navigator gets in one step; a fault may change it."""

    t: float
    scan: Scan
    odometry: Track


@dataclass(frozen=True)
class Mission:
    """Where a robot starts and where it is to go."""

    site: OtherSite
    robot: OtherRobot
    start: FloatArray
    goal: FloatArray
    bound: float
    """The least time that it could take, s."""
    seed: int


@dataclass
class Outcome:
    """What came of a mission."""

    state: str
    reason: str
    seconds: float
    bound: float
    off: float
    off_deg: float
    contacts: int
    over_limits: float
    """The largest change of a command beside what the drive's limits allow in the time that passed, a share of it."""
    silent: float
    """The longest time for which it stood without giving a reason, s."""
    struck: float | None = None
    """The speed that it had when it and a walker touched first, m/s."""


Walker = Callable[[float], FloatArray]
"""Where a walker is ``(2,)`` at a time, s, m."""


def walker_at(walker: Walker, t: float) -> shapely.Polygon:
    """Return the floor that a walker stands on."""
    return shapely.Point(walker(t)).buffer(WALKER_RADIUS)


def map_of(site: OtherSite) -> Grid:
    """Return the map of what is known of a site."""
    solids = [np.array(shapely.get_coordinates(solid))[:-1] for solid in site.solids]
    return grid_from_polygons(shapely.get_coordinates(site.outline)[:-1], solids, 0.05, wall=0.2)


def draw_mission(site: OtherSite, robot: OtherRobot, rng: np.random.Generator, *, seed: int) -> Mission:
    """Draw two poses some way apart, both with room to turn, as far as the site has it."""
    outline = np.array(robot.body.exterior.coords)
    inner = float(robot.body.exterior.distance(shapely.Point(0.0, 0.0)))
    outer = float(np.hypot(*outline.T).max())
    through, steps = site.room_for(inner + 0.05)
    roomy = through
    for spare in (0.5, 0.3, 0.12) if robot.radius else (0.12, 0.05):
        found, _ = site.room_for(outer + spare)
        if len(found) > 100 and np.ptp(found, axis=0).max() > 6.0:
            roomy = found
            break
    nearest, wider = cKDTree(through), robot.body.buffer(0.06)
    for tried in range(10000):
        start, goal = roomy[rng.integers(len(roomy), size=2)]
        headings = rng.uniform(-np.pi, np.pi, 2)
        ends = np.column_stack([[start, goal], headings])
        if not all(site.floor.contains(_placed(wider, end)) for end in ends):
            continue
        first, last = np.atleast_1d(nearest.query([start, goal])[1])
        way = dijkstra(steps, directed=False, indices=first)[last]
        if 5.0 * 0.999**tried < way < np.inf:
            break
    drive_ = robot.filed.drive
    there = np.arctan2(*(goal - start)[::-1])
    turns = 0.0
    if drive_.kind == "differential":
        turns = sum(abs(np.angle(np.exp(1j * (h - there)))) for h in headings) * 0.5
    bound = way / drive_.top_speed + drive_.top_speed / drive_.acceleration + turns / drive_.top_turn_rate
    return Mission(site, robot, ends[0], ends[1], float(bound), seed)


class _Scanner:
    """Sweeps while the base moves, and hands over the last whole scan."""

    def __init__(self, mission: Mission, rng: np.random.Generator, walker: Walker | None) -> None:
        self._lidar = mission.robot.filed.lidars[0]
        self._floor, self._rng, self._walker = mission.site.floor, rng, walker
        self._history: deque[tuple[float, FloatArray]] = deque()
        self._delays = spun(self._lidar)
        self._begins = 0.0
        self.last: Scan | None = None

    def follow(self, t: float, pose: FloatArray) -> None:
        """Keep where the body is, and take the scan when its sweep is over."""
        lidar = self._lidar
        self._history.append((t, pose))
        if t < self._begins + self._delays[-1] + LATENCY:
            return
        times, poses = np.array([each[0] for each in self._history]), np.array([each[1] for each in self._history])
        fired = self._begins + self._delays
        body = np.column_stack([np.interp(fired, times, poses[:, part]) for part in range(3)])
        x, y, heading = lidar.mount_pose
        c, s = np.cos(body[:, 2]), np.sin(body[:, 2])
        sensor = body + np.column_stack([c * x - s * y, s * x + c * y, np.full(len(c), heading)])
        floor = self._floor
        if self._walker is not None:
            floor = floor.difference(walker_at(self._walker, float(fired.mean())))
        ranges = look(floor, sensor, lidar.beam_angles, lidar.farthest)
        ranges += self._rng.normal(0.0, 0.012, len(ranges))
        ranges[self._rng.random(len(ranges)) < 0.01] = np.nan
        ranges[ranges < lidar.nearest] = 0.0
        self.last = Scan(self._begins, ranges.astype(np.float32))
        self._begins += 1.0 / lidar.rate
        while self._history[0][0] < self._begins - 0.1:
            self._history.popleft()


def drive(
    mission: Mission,
    navigator: Navigator,
    *,
    time_limit: float,
    fault: Callable[[Input, OtherBase], Input] | None = None,
    each: Callable[[float, OtherBase, Navigator], None] | None = None,
    walker: Walker | None = None,
) -> Outcome:
    """Step a navigator at the robot's loop rate until it is over, and judge what it did.

    A `walker` minds nothing, and nobody tells the navigator where it is.
    """
    rng, robot = np.random.default_rng(mission.seed + 1000), mission.robot
    base = OtherBase(
        mission.start,
        delay=robot.delay,
        lag=robot.lag,
        radius=robot.radius,
        sideways=robot.filed.drive.kind == "omni",
        scales=1.0 + rng.normal(0.0, [0.01, 0.01, 0.015]),
        noise=0.01,
        rng=rng,
        least=(robot.filed.drive.least_speed, robot.filed.drive.least_turn_rate),
    )
    scanner, track = _Scanner(mission, rng, walker), deque([(0.0, base.odometry)])
    outcome = Outcome("driving", "", 0.0, mission.bound, np.nan, np.nan, 0, 0.0, 0.0)
    floor = mission.site.floor
    shapely.prepare(floor)
    next_step, told_at, told, mute_since, steps = 0.3, 0.0, np.zeros(3), 0.0, 0
    while base.t < time_limit:
        base.go_on()
        steps += 1
        scanner.follow(base.t, base.pose)
        if steps % 4 == 0:
            track.append((base.t, base.odometry))
            while track[0][0] < base.t - TRACK_KEPT:
                track.popleft()
        if steps % 10 == 0 and np.hypot(*base.velocity[:2]) + abs(base.velocity[2]) > MOVING:
            outcome.contacts += not floor.contains(_placed(robot.body, base.pose))
        if (
            outcome.struck is None
            and walker is not None
            and walker_at(walker, base.t).intersects(_placed(robot.body, base.pose))
        ):
            outcome.struck = float(np.hypot(*base.velocity[:2]))
        if base.t < next_step or scanner.last is None:
            continue
        next_step += rng.uniform(0.9, 1.1) / robot.loop_rate
        given = Input(base.t, scanner.last, Track(*map(np.array, zip(*track, strict=True))))
        if fault is not None:
            given = fault(given, base)
        command = navigator.step(given.t, given.scan, given.odometry)
        velocity = command.velocity
        elapsed = base.t - told_at if told_at else 1.0 / robot.loop_rate
        outcome.over_limits = max(outcome.over_limits, _excess(robot, told, velocity, elapsed))
        told_at, told = base.t, velocity
        base.tell(velocity)
        if not command.standing or navigator.reason:
            mute_since = base.t
        outcome.silent = max(outcome.silent, base.t - mute_since)
        if each is not None:
            each(base.t, base, navigator)
        if navigator.over and np.abs(base.velocity).max() < 1e-3:
            break
    off = base.pose - mission.goal
    outcome.state, outcome.reason, outcome.seconds = str(navigator.state), navigator.reason, base.t
    outcome.off = float(np.hypot(off[0], off[1]))
    outcome.off_deg = float(np.degrees(abs(np.angle(np.exp(1j * off[2])))))
    return outcome


def _placed(body: shapely.Polygon, pose: FloatArray) -> shapely.Polygon:
    c, s = np.cos(pose[2]), np.sin(pose[2])
    return affine_transform(body, [c, -s, s, c, pose[0], pose[1]])


def _excess(robot: OtherRobot, before: FloatArray, now: FloatArray, elapsed: float) -> float:
    """Return by what share a command is beyond the drive's limits; 0 if it keeps them."""
    drive_ = robot.filed.drive
    pace, pace_before = float(np.hypot(*now[:2])), float(np.hypot(*before[:2]))
    allowed = drive_.acceleration if pace > pace_before else drive_.braking
    shares = [
        pace / drive_.top_speed,
        -now[0] / max(drive_.reverse_speed, 1e-9) if drive_.kind != "omni" else 0.0,
        abs(now[2]) / drive_.top_turn_rate,
        abs(pace - pace_before) / (allowed * elapsed),
        abs(now[2] - before[2]) / (drive_.turn_acceleration * elapsed) if drive_.kind != "car" else 0.0,
    ]
    return max(max(shares) - 1.0, 0.0)
