"""The navigator: localizes, plans, replans, drives, recovers and stays safe, one step at a time."""

from __future__ import annotations

from collections.abc import Sequence
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs import BodyCheck, CostMap, LiveCosts, Walking, body_touches
from vinecompass.errors import InputError
from vinecompass.following import LocalPlan, LocalPlanner, local_planner
from vinecompass.geometry import arc_velocity, compose, inverse, relative, transform_points, wrap_angle
from vinecompass.grids import Grid, Zone
from vinecompass.localization import Estimate, ParticleLocalizer
from vinecompass.navigation.input_watch import InputWatch
from vinecompass.navigation.loop_planning import free_start, plan_for_loop
from vinecompass.navigation.mission_log import MissionLog, StopResult
from vinecompass.navigation.progress import ProgressWatch
from vinecompass.navigation.recovery import Recovery
from vinecompass.navigation.round import StopGoal, checked_goals
from vinecompass.navigation.safety import Safety
from vinecompass.navigation.scene import Scene
from vinecompass.navigation.seen_before import SeenBefore
from vinecompass.odometry import motion_at, straightened_beams
from vinecompass.planning import Plan
from vinecompass.robot import Command, Robot
from vinecompass.runs import Scan, Track
from vinecompass.settings import Settings

__all__ = ["Navigator"]

FloatArray = NDArray[np.float64]
State = Literal[
    "finding itself", "driving", "recovering", "dwelling", "stale", "holding", "manual", "finished", "failed"
]

CLEARLY_CHEAPER = 0.9, 0.3
"""Share of what the rest of a plan that still serves costs, less some metres, below which another is taken up."""
FOR_GOOD = ("occupied", "zone", "one-way zone", "walls")
"""Causes in the map itself for there being no plan: no recovery takes them away."""
PEOPLE_PERIOD = 0.3
"""Seconds after which the floor about people is priced anew, for global plans: local ones see people at once."""


class Navigator:
    """Drives a robot round its stops in a map, from its scans and odometry alone.

    Parameters
    ----------
    grid : Grid
    robot : Robot
    initial_pose : array_like, (3,), or None
        In the site frame, m and radians; it may be rough. None: it looks around until it knows where it is.
    goals : sequence of StopGoal, or array_like, (3,)
        The stops in their order, or the one pose to reach.
    zones : sequence of Zone
    settings : Settings, optional
    seed : int

    Attributes
    ----------
    state : str
        "finding itself", "driving", "recovering", "dwelling" at a stop, "stale" (standing for want of good input),
        "holding" or "manual" (as it was told), "finished", or "failed".
    reason : str
        Why it is in that state, or what limits its speed.
    estimate : Estimate or None
        The last one, at its scan's stamp.
    pose : array, (3,)
        The estimate carried on to now by the odometry.
    plan : Plan or None
        The last one made, found or not.
    t : float
        Of the last step with good input, s.
    local_plan : LocalPlan or None
        The last one, with everything that was considered for it.
    log : MissionLog
        States, plans, interventions of safety, and how each stop ended.

    Raises
    ------
    InputError
        A stop or the initial pose lies off the map, or the drive is one that the chosen local planner does not know.
    """

    def __init__(
        self,
        grid: Grid,
        robot: Robot,
        initial_pose: ArrayLike | None,
        goals: Sequence[StopGoal] | ArrayLike,
        *,
        zones: Sequence[Zone] = (),
        settings: Settings | None = None,
        seed: int,
    ) -> None:
        s = self._settings = settings or Settings()
        self._grid = grid
        self._robot = robot
        self._seed = seed
        self._goals = checked_goals(grid, goals)
        self._localizer = ParticleLocalizer(grid, robot, initial_pose, settings=s.localization, seed=seed)
        self._costs = LiveCosts(grid, robot, zones=zones, settings=s.costs)
        self._planner: LocalPlanner = local_planner(robot, s.following, s.window, s.band, s.people)
        self._guarded = robot.widened(s.safety.margin)
        self._watch = InputWatch(s.safety)
        self._before = SeenBefore(robot.scanner)
        self._belief_began: float | None = None
        self.log = MissionLog()
        self._safety = Safety(robot, settings=s.safety, log=self.log)
        self._progress = ProgressWatch(s.navigation.stuck_after, s.navigation.stuck_progress)
        self._command = Command()
        self._manual_command = Command()
        self._last_look = self._last_plan = self._dwell_since = -np.inf
        self._recovery: Recovery | None = None
        self._recovered = 0
        self._tries: dict[int, int] = {}
        self._deferred: set[int] = set()
        self.t = 0.0
        self._people: Sequence[Walking] = ()
        self._people_near = False
        self._met = -np.inf
        self.state: State = "driving" if initial_pose is not None else "finding itself"
        self.reason = ""
        self.estimate: Estimate | None = None
        self.pose: FloatArray = np.zeros(3) if initial_pose is None else np.asarray(initial_pose, dtype=float)
        self.plan: Plan | None = None
        self.local_plan: LocalPlan | None = None

    @property
    def goal(self) -> StopGoal | None:
        """The stop it is on its way to, or None when the round is over."""
        return self._goals[0] if self._goals else None

    @property
    def phase(self) -> str:
        """What the local planner is doing."""
        return self._planner.phase

    @property
    def over(self) -> bool:
        """Whether the round is over and the robot stands."""
        return self.state in ("finished", "failed") and self._command.standing

    @property
    def particles(self) -> FloatArray:
        """The particles ``(N, 3)`` in the site frame."""
        return self._localizer.particles

    @property
    def obstacles(self) -> FloatArray:
        """Points ``(N, 2)`` seen of late that the map does not know, in the site frame, m."""
        return self._costs.obstacles.points

    @property
    def costmap(self) -> CostMap:
        """The floor as priced now."""
        return self._costs.costmap

    def scene(self) -> Scene:
        """Return what it sees and weighs now, to be drawn; raise `InputError` before it has driven."""
        if self.local_plan is None:
            raise InputError("no local plan yet", key="step", expected="a step that drives first")
        return Scene(self.t, self.pose, self._planner.remaining, self.local_plan, self.obstacles, self._people)

    def hold(self, reason: str = "told to") -> None:
        """Stop and stand until `resume`."""
        if self.state not in ("finished", "failed"):
            self.state = "holding"
            self.reason = reason

    def manual(self, command: Command) -> None:
        """Let a person's command through, again and again until `resume`; safety still has the last word."""
        if self.state not in ("finished", "failed"):
            self.state = "manual"
            self.reason = "a person drives"
            self._manual_command = command

    def resume(self) -> None:
        """Go on with the round after `hold` or `manual`."""
        if self.state in ("holding", "manual"):
            self.state = "driving"
            self.reason = ""
            self._last_plan = self._last_look = -np.inf
            self.plan = None

    def step(self, t: float, scan: Scan, odometry: Track, people: Sequence[Walking] = ()) -> Command:
        """Take in what was read since the last step and return the command for the next.

        Parameters
        ----------
        t : float
            Now, s.
        scan : Scan
            The last whole one.
        odometry : Track
            Poses in the track frame, from the scan's first beam at the latest until now.
        people : sequence of Walking
            Where people are, from whoever tracks them.

        Returns
        -------
        Command
            Finite, within the robot's limits, and one that it can still stop from.
        """
        period = 1.0 / self._robot.scanner.rate
        trouble = self._watch.trouble(t, scan, odometry, self._command)
        if trouble:
            self._stand_for(trouble)
            self._command = self._safety.stop(t, self._command, period, trouble)
        else:
            if self.state == "stale":
                self.state = "driving"
                self.reason = ""
            points = self._sense(t, scan, odometry, people)
            wanted = self._decide(t, period)
            self._command = self._safety.check(
                t,
                wanted,
                self._command,
                points,
                duration=period,
                pose=self.pose,
                floor=self._costs.costmap,
                people=people,
                measured=_velocity(odometry),
                # In doubt about where it is, it does not know what the map says of the floor behind, either.
                room_behind=self._before.room_behind if self._knows_where() else 0.0,
            )
        self.log.enter(t, self.state, "" if self.goal is None else self.goal.name, self.reason)
        return self._command

    def _stand_for(self, trouble: str) -> None:
        if self.state in ("finished", "failed"):
            return
        if self._watch.lasting >= self._settings.safety.give_up_after:
            self._fail(f"no input to drive by for {self._watch.lasting:.0f} s: {trouble}")
        elif self.state not in ("holding", "manual"):
            self.state = "stale"
            self.reason = trouble

    def _fail(self, reason: str) -> None:
        """End the round: no stop that is left is reached."""
        for goal in self._goals:
            self.log.stops.append(StopResult(goal.name, "failed", reason, self.t, self.pose, goal.pose))
        self._goals = []
        self.state = "failed"
        self.reason = reason

    def _sense(self, t: float, scan: Scan, odometry: Track, people: Sequence[Walking]) -> FloatArray:
        """Localize and price the floor; return the points seen, in the body frame as it is now."""
        self.t = t
        self._people = people
        lidar = self._robot.scanner
        motion = motion_at(odometry, scan.t, lidar)
        self.estimate = self._localizer.update(scan, motion)
        if self._belief_began not in (None, self.estimate.drift.began):
            # What was seen before was put where the robot was not.
            self._before.carried()
            self._costs.forget()
        self._belief_began = self.estimate.drift.began
        since_scan = relative(odometry.poses[-1], motion.pose)
        self.pose = compose(self.estimate.pose, since_scan)
        reach = self._settings.costs.obstacle_reach
        beams = straightened_beams(scan.ranges, lidar, motion.sweep, clear_reach=reach)
        if self.estimate.state in ("tracking", "settling"):
            self._costs.see(t, self.estimate.pose, beams, people=people)
            if not self._met <= t < self._met + PEOPLE_PERIOD - 1e-9:
                # Who crosses will be gone before a plan gets there: the local planner minds them.
                near = [
                    each
                    for each in people
                    if not each.walks_across(float(self.pose[2]))
                    and np.hypot(each.x - self.pose[0], each.y - self.pose[1]) < reach
                ]
                self._costs.meet(near)
                self._people_near = len(near) > 0
                self._met = t
        points = transform_points(inverse(since_scan), beams.hits)
        return np.vstack([points, self._before.add(t, odometry.poses[-1], points)])

    def _decide(self, t: float, period: float) -> Command:
        """Return what is wanted now, by the state."""
        assert self.estimate is not None
        if self.state == "manual":
            return self._manual_command
        if self.state in ("holding", "finished", "failed"):
            return Command()
        if self.state == "dwelling":
            return self._dwell(t)
        lost = self.estimate.state in ("searching", "lost")
        if lost and self._recovery is None and self.state in ("driving", "finding itself"):
            self._find_itself(t)
        if self._recovery is not None:
            wanted = self._recovery.step(t, self.pose, self._costs.costmap, self._guarded, self._knows_where)
            if wanted is not None:
                return wanted
            self._end_recovery(t)
            if self.goal is None or self._recovery is not None:
                return Command()
        self._look(t)
        if self.state != "driving":
            return Command()
        return self._drive(t, period)

    def _knows_where(self) -> bool:
        return self.estimate is not None and self.estimate.settled

    def _find_itself(self, t: float) -> None:
        """Lost on the way: that comes before everything else."""
        assert self.estimate is not None
        self.plan = None
        self.state = "finding itself"
        self._begin(Recovery("find myself", self.estimate.reason, t, self.pose))

    def _begin(self, recovery: Recovery) -> None:
        self._recovery = recovery
        self.reason = str(recovery)

    def _drive(self, t: float, period: float) -> Command:
        s = self._settings.navigation
        assert self.estimate is not None
        cap, capped_by, _ = self._safety.cap(self.pose, self._costs.costmap, self._people)
        if not self.estimate.settled and s.unsettled_speed < cap:
            cap = s.unsettled_speed
            capped_by = f"until it knows where it is: {self.estimate.reason}"
        local = self.local_plan = self._planner.step(
            self.pose,
            self._command,
            period,
            floor=self._costs.costmap,
            people=self._people,
            cap=cap,
            capped_by=capped_by,
        )
        self.reason = local.reason or ("" if self.plan is None else self.plan.reason)
        self.log.meet(t, local.encounters)
        if local.phase == "missed":
            self.plan = None
            self._last_look = -np.inf
            self._recover(t, local.reason)
            return Command()
        if local.phase == "arrived" and self._command.standing:
            self._arrive(t)
            return Command()
        if not self._progress.goes_on(t, self.pose, self._planner.remaining):
            why = self._why_slow()
            self._recover(t, f"no progress for {s.stuck_after:g} s" + (f" ({why})" if why else ""))
            return Command()
        return local.command

    def _why_slow(self) -> str:
        """Return what held it up: safety's last word, or the local planner's."""
        last = self.log.interventions[-1] if self.log.interventions else None
        if last is not None and self.t - last.end < 1.0:
            return last.rule
        return self.local_plan.reason if self.local_plan is not None else ""

    def _look(self, t: float) -> None:
        """Plan anew if there is no plan, or it is blocked, left, or old."""
        s = self._settings.navigation
        if t - self._last_look < s.replan_period - 1e-9 or self._planner.phase == "aligning":
            if self.plan is not None and self.plan.found:
                self.state = "driving"
                return
            if t - self._last_look < s.replan_period - 1e-9:
                return
        self._last_look = t
        costmap = self._costs.costmap
        # With people about it, a plan is soon out of date.
        age = s.replan_period if self._people_near else s.plan_age
        ahead = self._planner.remaining
        off_path = len(ahead) == 0 or np.hypot(*(ahead[0, :2] - self.pose[:2])) > s.off_path
        serves = self.plan is not None and self.plan.found and not off_path
        serves = serves and bool(np.all(body_touches(costmap, self._robot, ahead)[:, 0] < 0))
        if serves and t - self._last_plan < age:
            self.state = "driving"
            return
        self._plan_anew(t, costmap, np.vstack([self.pose, ahead]) if serves else None)

    def _plan_anew(self, t: float, costmap: CostMap, former: FloatArray | None) -> None:
        """Plan; where what is left of a `former` plan serves still, another is taken up only if clearly cheaper."""
        goal = self.goal
        assert goal is not None
        start = free_start(costmap, self._robot, self.pose)
        plan = plan_for_loop(
            costmap,
            self._robot,
            start,
            goal.pose,
            margin=self._settings.safety.margin,
            settings=self._settings.planning,
            explain=self._command.standing,
        )
        self._last_plan = t
        if former is not None and np.allclose(former[-1], goal.pose):
            spent = BodyCheck(costmap, self._robot).drive_price(former)
            if not (plan.found and plan.cost < CLEARLY_CHEAPER[0] * spent - CLEARLY_CHEAPER[1]):
                self.state = "driving"
                return
        self.plan = plan
        if self.plan.found:
            # From where it stands to where it stands: a turn on the spot is left, or nothing.
            poses = self.plan.poses if len(self.plan.poses) > 1 else np.vstack([start, goal.pose])
            self._planner.follow(poses)
            self.log.plans.append((t, self.plan.poses))
            self.state = "driving"
            self.reason = ""
            self._progress.replanned()
        elif self.plan.why_not is not None and self.plan.why_not.cause in FOR_GOOD:
            self._give_up(t, self.plan.reason)
        else:
            self._recover(t, self.plan.reason)

    def _recover(self, t: float, reason: str) -> None:
        """Begin what comes next in the order of recovery, or give the stop up."""
        order = self._settings.navigation.recovery
        self._progress.restart(t)
        if self._progress.moved_since_recovery:
            self._recovered = 0
        if self._recovered >= len(order):
            self._give_up(t, reason)
            return
        kind = order[self._recovered]
        self._recovered += 1
        self.state = "recovering"
        self._begin(Recovery(kind, reason, t, self.pose))
        if kind == "forget obstacles":
            self._costs.forget()
        elif kind == "find myself":
            self._localizer = ParticleLocalizer(
                self._grid, self._robot, None, settings=self._settings.localization, seed=self._seed
            )
        elif kind == "take another stop":
            self._take_another_stop()

    def _end_recovery(self, t: float) -> None:
        """Plan at once from what the recovery has brought; if there is still no way, the next one begins."""
        recovery = self._recovery
        self._recovery = None
        assert recovery is not None and self.estimate is not None
        if self.estimate.state in ("searching", "lost"):
            if recovery.kind == "find myself":
                self._fail(f"it does not know where it is: {self.estimate.reason}")
            else:
                self._find_itself(t)
            return
        self.state = "driving"
        self.reason = ""
        self.plan = None
        self._last_look = -np.inf
        self._progress.recovered(self.pose)

    def _take_another_stop(self) -> None:
        """Put this stop behind the next one, once."""
        number = id(self._goals[0])
        if len(self._goals) > 1 and number not in self._deferred:
            self._deferred.add(number)
            self._goals[0], self._goals[1] = self._goals[1], self._goals[0]
            self._recovered = 0

    def _give_up(self, t: float, reason: str) -> None:
        """A stop has failed: say why in full, and do what its rules say."""
        goal = self.goal
        assert goal is not None
        if self.plan is not None and not self.plan.found:
            told = plan_for_loop(
                self._costs.costmap,
                self._robot,
                free_start(self._costs.costmap, self._robot, self.pose),
                goal.pose,
                margin=self._settings.safety.margin,
                settings=self._settings.planning,
                explain=True,
            )
            reason = told.reason or reason
        self._recovered = 0
        self._recovery = None
        self.plan = None
        self._last_look = -np.inf
        tries = self._tries[id(goal)] = self._tries.get(id(goal), 0) + 1
        if goal.rules.on_failure == "retry" and tries <= goal.rules.retries:
            self.state = "driving"
            self.reason = f"tries {goal.name} again: {reason}"
            return
        if goal.rules.on_failure == "stop":
            self._fail(reason)
            return
        self._close_stop(t, "failed", reason)

    def _arrive(self, t: float) -> None:
        goal = self.goal
        assert goal is not None and self.estimate is not None
        off = self.pose - goal.pose
        distance, turn = float(np.hypot(off[0], off[1])), abs(float(wrap_angle(off[2])))
        rules = goal.rules
        if distance > rules.position_tolerance or turn > np.radians(rules.heading_tolerance_deg):
            # Pushed or relocated since the plan was made.
            self.plan = None
            self._last_look = -np.inf
            return
        self.state = "dwelling"
        self.reason = f"at {goal.name}"
        self._dwell_since = t
        self._recovered = 0

    def _dwell(self, t: float) -> Command:
        goal = self.goal
        assert goal is not None
        if t - self._dwell_since >= goal.rules.dwell:
            self._close_stop(t, "reached", "")
        return Command()

    def _close_stop(self, t: float, status: Literal["reached", "failed"], reason: str) -> None:
        goal = self._goals.pop(0)
        self.log.stops.append(StopResult(goal.name, status, reason, t, self.pose, goal.pose))
        self.plan = None
        self._last_look = -np.inf
        self._progress.restart(t)
        if self._goals:
            self.state = "driving"
            self.reason = ""
            return
        failed = [stop for stop in self.log.stops if stop.status == "failed"]
        self.state = "failed" if failed else "finished"
        self.reason = "; ".join(f"{stop.name}: {stop.reason}" for stop in failed)


def _velocity(odometry: Track) -> FloatArray:
    """Return the body's mean velocity ``(3,)`` over the last tenth of a second of a track."""
    span = min(0.1, float(odometry.t[-1] - odometry.t[0]))
    if span <= 0.0:
        return np.zeros(3)
    before, now = odometry.at([odometry.t[-1] - span, odometry.t[-1]])
    return arc_velocity(relative(now, before)) / span
