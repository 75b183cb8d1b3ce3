"""The navigator: localizes, plans, replans, follows, and stays safe, one step at a time."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs import CostMap, LiveCosts, body_touches
from vinecompass.following import PathFollower
from vinecompass.geometry import compose, inverse, relative, transform_points
from vinecompass.grids import Grid, Zone
from vinecompass.localization import Estimate, ParticleLocalizer
from vinecompass.navigation.safety import guard_outline, safe_command
from vinecompass.navigation.settings import Settings
from vinecompass.odometry import deskewed_hits, motion_at, straightened_beams
from vinecompass.planning import Plan, plan_path
from vinecompass.robot import Command, Robot, limit_command
from vinecompass.runs import Scan, Track

__all__ = ["Navigator"]

State = Literal["driving", "waiting", "stale", "arrived"]


class Navigator:
    """Drives a robot to a goal in a map, from its scans and odometry alone.

    Parameters
    ----------
    grid : Grid
    robot : Robot
    initial_pose, goal : array_like, (3,)
        In the site frame, m and radians; the initial pose may be rough.
    zones : sequence of Zone
    settings : Settings, optional
    seed : int

    Attributes
    ----------
    state : {"driving", "waiting", "stale", "arrived"}
    reason : str
        Why it waits or stands; empty while it drives.
    estimate : Estimate or None
        The last one, at its scan's stamp.
    pose : array, (3,)
        The estimate carried on to now by the odometry.
    plan : Plan or None
        The last one made, found or not.
    plans : int
        How often it has planned.
    obstacles : array, (N, 2)
        Points seen that the map does not know, in the site frame.

    Raises
    ------
    InputError
        The goal or the initial pose lies off the map.
    """

    def __init__(
        self, grid: Grid, robot: Robot, initial_pose: ArrayLike, goal: ArrayLike, *,
        zones: Sequence[Zone] = (), settings: Settings | None = None, seed: int,
    ) -> None:  # fmt: skip
        self._settings = settings or Settings()
        s = self._settings
        self._grid, self._robot = grid, robot
        self._goal = np.asarray(goal, dtype=float)
        self._localizer = ParticleLocalizer(grid, robot, initial_pose, settings=s.localization, seed=seed)
        self._costs = LiveCosts(grid, robot, zones=zones, settings=s.costs)
        self._follower = PathFollower(robot, settings=s.following)
        self._outline = guard_outline(robot, s.safety.margin)
        self._command = Command()
        self._last_look = self._last_plan = -np.inf
        self.state: State = "driving"
        self.reason = ""
        self.estimate: Estimate | None = None
        self.pose: NDArray[np.float64] = np.asarray(initial_pose, dtype=float)
        self.plan: Plan | None = None
        self.plans = 0

    @property
    def phase(self) -> str:
        """What the follower is doing."""
        return self._follower.phase

    @property
    def particles(self) -> NDArray[np.float64]:
        """The particles ``(N, 3)`` in the site frame."""
        return self._localizer.particles

    @property
    def obstacles(self) -> NDArray[np.float64]:
        """Points ``(N, 2)`` seen of late that the map does not know, in the site frame, m."""
        return self._costs.obstacles.points

    def step(self, t: float, scan: Scan, odometry: Track) -> Command:
        """Take in what was read since the last step and return the command for the next.

        Parameters
        ----------
        t : float
            Now, s.
        scan : Scan
            The last whole one.
        odometry : Track
            Poses in the track frame, from the scan's first beam at the latest until now.

        Returns
        -------
        Command
            Finite, within the robot's limits, and one that it can still stop from.
        """
        period = 1.0 / self._robot.scanner.rate
        stale = self._settings.safety.stale_after
        if t - scan.t > stale or t - odometry.t[-1] > stale or scan.t > t:
            self.state, self.reason = "stale", f"scan {t - scan.t:.2f} s old, odometry {t - odometry.t[-1]:.2f} s old"
            self._command = limit_command(Command(), self._command, period, self._robot.drive)
            return self._command
        motion = motion_at(odometry, scan.t, self._robot.scanner)
        self.estimate = self._localizer.update(scan, motion)
        since_scan = relative(odometry.poses[-1], motion.pose)
        self.pose = compose(self.estimate.pose, since_scan)
        seen = deskewed_hits(scan.ranges, self._robot.scanner, motion.sweep)
        beams = straightened_beams(
            scan.ranges, self._robot.scanner, motion.sweep, clear_reach=self._settings.costs.obstacle_reach
        )  # fmt: skip
        self._costs.see(t, self.estimate.pose, beams)
        if t - self._last_look >= self._settings.navigation.replan_period - 1e-9 and self._follower.phase != "aligning":
            self._last_look = t
            self._look(t)
        self._command = self._decide(transform_points(inverse(since_scan), seen), period)
        return self._command

    def _look(self, t: float) -> None:
        """Plan anew if there is no plan, or it is blocked, left, or old."""
        s = self._settings.navigation
        if self.state == "arrived":
            return
        costmap = self._costs.costmap
        if self.plan is not None and self.plan.found and t - self._last_plan < s.plan_age:
            ahead = self._follower.remaining
            off_path = np.hypot(*(ahead[0, :2] - self.pose[:2])) > s.off_path
            if not off_path and np.all(body_touches(costmap, self._robot, ahead)[:, 0] < 0):
                return
        start = self._free_start(costmap)
        self.plan = plan_path(costmap, self._robot, start, self._goal, settings=self._settings.planning)
        self.plans += 1
        self._last_plan = t
        if self.plan.found:
            self._follower.follow(self.plan.poses, self._gaps(costmap, self.plan.poses))
            self.state, self.reason = "driving", ""
        else:
            self.state, self.reason = "waiting", self.plan.reason

    def _free_start(self, costmap: CostMap) -> NDArray[np.float64]:
        """The pose to plan from: where the robot is, or the nearest open place if an estimate's error closes that."""
        cell = self._grid.cells_at(self.pose[None, :2])[0]
        if self._grid.contains(cell[None])[0] and (
            np.isinf(costmap.prices[tuple(cell)]) or body_touches(costmap, self._robot, self.pose)[0, 0] >= 0
        ):
            reach = 8
            low = np.maximum(cell - reach, 0)
            block = costmap.prices[low[0] : cell[0] + reach + 1, low[1] : cell[1] + reach + 1]
            candidates = np.argwhere(np.isfinite(block)) + low
            points = self._grid.points_of(candidates)
            poses = np.column_stack([points, np.full(len(points), self.pose[2])])
            poses = poses[body_touches(costmap, self._robot, poses)[:, 0] < 0] if len(poses) else poses
            if len(poses):
                away = np.hypot(*(poses[:, :2] - self.pose[:2]).T)
                return np.asarray(poses[int(np.argmin(away))], dtype=float)
        return self.pose

    def _gaps(self, costmap: CostMap, poses: NDArray[np.float64]) -> NDArray[np.float64]:
        cells = self._grid.cells_at(poses[:, :2])
        return costmap.clearance[cells[:, 0], cells[:, 1]].astype(float) - self._robot.body.inner_radius

    def _decide(self, points: NDArray[np.float64], period: float) -> Command:
        s = self._settings
        if self.state == "waiting" or self.plan is None:
            return limit_command(Command(), self._command, period, self._robot.drive)
        wanted = self._follower.step(self.pose, self._command, period)
        if self._follower.phase == "arrived":
            self.state = "arrived"
        elif self.state == "arrived":
            self.state = "driving"
        if self.estimate is not None and not self.estimate.settled and wanted.speed > s.navigation.unsettled_speed:
            share = s.navigation.unsettled_speed / wanted.speed
            wanted = Command(wanted.speed * share, wanted.turn_rate * share)
        return safe_command(
            wanted, self._command, points, self._robot, self._outline, duration=period, delay=s.safety.delay
        )  # fmt: skip
