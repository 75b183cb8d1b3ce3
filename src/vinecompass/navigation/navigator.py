"""The navigator: localizes, plans, replans, drives, recovers and stays safe, one step at a time."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import Walking
from vinecompass.costs import CostMap, Layer
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.following import LocalPlan, LocalPlanner, local_planner
from vinecompass.geometry import wrap_angle
from vinecompass.grids import Grid, Zone
from vinecompass.localization import Estimate, SecondOpinion
from vinecompass.motion import Command, done_of, limits_of, raised_to_least
from vinecompass.navigation.find_myself import FindMyself
from vinecompass.navigation.input_watch import InputWatch
from vinecompass.navigation.loop_planning import LoopPlanner
from vinecompass.navigation.mission_log import MissionLog, StopResult
from vinecompass.navigation.outside_localization import read_pose
from vinecompass.navigation.patience import Patience
from vinecompass.navigation.plan_keeper import GlobalPlanner, Look, PlanKeeper
from vinecompass.navigation.progress import Pace, ProgressWatch, StandingWatch
from vinecompass.navigation.recoveries import RECOVERIES, RecoveryOrder, Wait
from vinecompass.navigation.recovery import Recovery
from vinecompass.navigation.round import StopGoal, checked_goals
from vinecompass.navigation.safety import Safety
from vinecompass.navigation.scene import Scene
from vinecompass.navigation.senses import Senses
from vinecompass.navigation.situation import Situation
from vinecompass.navigation.state import State
from vinecompass.navigation.stops import StopQueue
from vinecompass.planning import Plan, Planner
from vinecompass.robot import Robot
from vinecompass.runs import Scan, Track
from vinecompass.settings import Settings, differing_values

__all__ = ["Navigator"]

FloatArray = NDArray[np.float64]
FOR_GOOD = ("occupied", "zone", "one-way zone", "walls")
"""Causes in the map itself for there being no plan: no recovery takes them away."""
COMES_IN_AGAIN = 3
"""Times that a car that missed a stop comes in again before it recovers: it cannot put itself right on the spot."""
STANDS_FOR = 1.0
"""Seconds for which what cannot turn on the spot stands on its plan before another is made from there.

Where it is a hand's breadth beside its plan, the plan may lead no further, and another one begin with a step back.
"""
BY_HAND = "a person drives"
"""Why it does as it does in manual mode."""
HELD_LONG = 0.8
"""Seconds of standing against its own wish after which it says what holds it."""
TUNED = ("costs", "following", "window", "band", "people")
"""Tables of settings that may be turned while it drives."""
AMBIGUOUS_FOR = 2.0
"""Seconds of its being in one of several places after which it finds out in which: it would drive by a mere guess."""
ASTRAY_SPEED = 0.3
"""m/s at which it drives a base that turns otherwise than it is told."""
JUST_NOW = 1.0
"""Seconds since safety's last intervention within which it is what holds the robot up."""


class Navigator:
    """Drives a robot round its stops in a map, from its scans and odometry alone.

    Each step is a pipeline: the input is watched, the robot localized, the floor priced; what to do is decided by the
    state, which may be to plan, to recover or to drive by a local plan; what is wanted is made safe, and noted.

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
    layers : sequence of Layer
        Of the costmap, besides the usual ones.
    planner : callable or GlobalPlanner, optional
        A planner of your own as `plan_path` takes it, in place of the one that ``planning.method`` names; or what plans
        for the loop in place of `LoopPlanner`, which keeps the margin and sees to the turns at the ends.
    local : LocalPlanner, optional
        In place of the one that ``following.planner`` names.
    recoveries : mapping of str to type of Recovery, optional
        Besides those that are known: ``navigation.recovery`` says which come when.
    plans_beside : bool
        Whether plans are made in a thread of their own, so that no step waits for one: for a robot. Otherwise a step
        that plans takes as long as that, and the same input gives the same commands.

    Attributes
    ----------
    robot : Robot
    speed_share : float
        Share of the speeds that it may drive at, 0 to 1: to be set from outside at any time.
    emergency : str
        Why it must stand, as "red button"; it stops as long as this is not empty. To be set from outside.
    state : State
        What it is doing: "finding itself", "driving", "recovering", "dwelling" at a stop, "stale" (standing for want of
        good input), "holding" or "manual" (as it was told), "finished", or "failed".
    reason : str
        Why it is in that state, or what limits its speed.
    local_plan : LocalPlan or None
        The last one, with everything that was considered for it.
    log : MissionLog
        States, plans, interventions of safety, and how each stop ended.

    Raises
    ------
    InputError
        A stop or the initial pose lies off the map, or the settings name a part that is not known.
    """

    @checked
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
        layers: Sequence[Layer] = (),
        planner: GlobalPlanner | Planner | None = None,
        local: LocalPlanner | None = None,
        recoveries: Mapping[str, type[Recovery]] | None = None,
        plans_beside: bool = False,
    ) -> None:
        s = self._settings = settings or Settings()
        told = None if initial_pose is None else np.asarray(initial_pose, dtype=float)
        self.robot = robot
        self.speed_share = 1.0
        self.emergency = ""
        self.log = MissionLog()
        self.local_plan: LocalPlan | None = None
        self.state = State.FINDING_ITSELF if told is None else State.DRIVING
        self.reason = ""
        self._grid = grid
        self._stops = StopQueue(checked_goals(grid, goals))
        self._watch = InputWatch(s.safety, robot)
        self._senses = Senses(grid, robot, told, zones=zones, layers=layers, settings=s, seed=seed, log=self.log)
        loop_planner = (
            LoopPlanner(s.safety.margin, s.planning, planner) if planner is None or callable(planner) else planner
        )
        self._plans = PlanKeeper(loop_planner, robot, s.navigation, beside=plans_beside)
        self._local = local or local_planner(robot, s)
        self._local_is_own = local is not None
        self._safety = Safety(robot, settings=s.safety, log=self.log)
        self._progress = ProgressWatch(s.navigation.stuck_after, s.navigation.stuck_progress)
        self._standing = StandingWatch(STANDS_FOR)
        self._order = RecoveryOrder(s.navigation.recovery, {**RECOVERIES, **(recoveries or {})})
        self._recovery: Recovery | None = None
        self._guarded = robot.widened(s.safety.margin)
        self._now: Situation | None = None
        self._told_pose: FloatArray = np.zeros(3) if told is None else told
        self._command = Command()
        self._by_hand = Command()
        self._by_hand_since = -np.inf
        self._held_since = np.inf
        self._pace = Pace()
        self._ambiguous_since = np.inf
        self._dwells_since = -np.inf
        self._misses = 0
        self._patience = Patience(robot.drive.top_speed)

    @property
    def t(self) -> float:
        """Of the last step with good input, s."""
        return 0.0 if self._now is None else self._now.t

    @property
    def pose(self) -> FloatArray:
        """Where it believes to be ``(3,)`` in the site frame: the estimate, carried on to now by the odometry."""
        return self._told_pose if self._now is None else self._now.pose

    @property
    def estimate(self) -> Estimate | None:
        """The last one, at its scan's stamp."""
        return None if self._now is None else self._now.estimate

    @property
    def plan(self) -> Plan | None:
        """The last one made, found or not."""
        return self._plans.plan

    @property
    def goal(self) -> StopGoal | None:
        """The stop it is on its way to, or None when the round is over."""
        return self._stops.next

    @property
    def command(self) -> Command:
        """The one it gave last."""
        return self._command

    @property
    def phase(self) -> str:
        """What the local planner is doing."""
        return self._local.phase

    @property
    def over(self) -> bool:
        """Whether the round is over and the robot stands."""
        return self.state.over and self._command.standing

    @property
    def particles(self) -> FloatArray:
        """The particles ``(N, 3)`` in the site frame."""
        return self._senses.particles

    @property
    def seen(self) -> FloatArray:
        """What the last scan hit ``(N, 2)``, in the site frame, m."""
        return self._senses.seen

    @property
    def second_opinion(self) -> SecondOpinion | None:
        """On the pose that it was told last, once a scan has said anything."""
        return self._senses.second_opinion

    @property
    def obstacles(self) -> FloatArray:
        """Points ``(N, 2)`` seen of late that the map does not know, in the site frame, m."""
        return self._senses.costs.obstacles.points

    @property
    def costmap(self) -> CostMap:
        """The floor as priced now."""
        return self._senses.costs.costmap

    @property
    def distance_left(self) -> float:
        """How far it is to the next stop along the plan, m; `nan` without one."""
        ahead = self._local.remaining
        if self._now is None or not self._plans.found or len(ahead) == 0:
            return float("nan")
        to_plan, steps = ahead[0, :2] - self._now.pose[:2], np.diff(ahead[:, :2], axis=0)
        return float(np.hypot(*to_plan) + np.hypot(steps[:, 0], steps[:, 1]).sum())

    @property
    def time_left(self) -> float:
        """How long that takes at the pace of the last seconds of driving, s; `nan` before it has driven."""
        return self._pace.seconds_for(self.distance_left)

    def scene(self) -> Scene:
        """Return what it sees and weighs now, to be drawn; raise `InputError` before it has driven."""
        if self.local_plan is None or self._now is None:
            raise InputError("no local plan yet", key="step", expected="a step that drives first")
        return Scene(self.t, self.pose, self._local.remaining, self.local_plan, self.obstacles, self._now.people)

    def go(self, goals: Sequence[StopGoal] | ArrayLike, *, afterwards: bool = False) -> None:
        """Drive to other stops: in place of those that are left, or after them.

        Parameters
        ----------
        goals : sequence of StopGoal, or array_like, (3,)
            As in the constructor.
        afterwards : bool
            Whether to reach what is left first.

        Raises
        ------
        InputError
            A stop lies off the map.
        """
        stops = checked_goals(self._grid, goals)
        if not afterwards:
            self.cancel()
        self._stops.add(stops)
        if self.state.over:
            self._senses.base.put_right()
            self._enter(State.DRIVING, "")

    def cancel(self, reason: str = "told to") -> None:
        """Let go of all stops that are left, and stop."""
        self._note(self._stops.close_all(), "cancelled", reason)
        self._recovery = None
        self._plans.drop()
        if not self.state.over:
            self._enter(State.FINISHED, f"cancelled: {reason}")

    def relocate(self, pose: ArrayLike) -> None:
        """Take up where it is from outside, as when a person points at the map: ``(3,)`` in the site frame.

        Raises
        ------
        InputError
            The pose lies off the map, or inside a wall.
        """
        self._senses.relocate(np.asarray(pose, dtype=float))
        self._plans.drop()

    def use(self, grid: Grid | None = None, *, zones: Sequence[Zone] | None = None) -> None:
        """Go on with another map of the same site, or with other zones; what is not given stays.

        Raises
        ------
        InputError
            The robot, or a stop that is left, lies off the map.
        """
        if grid is not None:
            for goal in self._stops.left:
                checked_goals(grid, [goal])
        self._senses.use(grid, zones, self.pose)
        self._grid = grid or self._grid
        self._plans.drop()

    def tune(self, settings: Settings) -> None:
        """Go on with other settings of the floor's prices and of local plans.

        Raises
        ------
        InputError
            Others differ from those in force, which cannot be turned while it drives.
        """
        for key in differing_values(self._settings, settings):
            if key.split(".")[0] not in TUNED:
                raise InputError("cannot be turned while it drives", key=key, expected=f"one of {', '.join(TUNED)}")
        self._settings = settings
        self._senses.tune(settings)
        if not self._local_is_own:
            self._local = local_planner(self.robot, settings)
        self._plans.drop()

    def hold(self, reason: str = "told to") -> None:
        """Stop and stand until `resume`."""
        if not self.state.over:
            self._enter(State.HOLDING, reason)

    def manual(self, command: Command) -> None:
        """Let a person's command through for a moment; safety still has the last word.

        It holds for ``navigation.manual_hold`` seconds and must be given again and again: whoever lets go stops the
        robot. It stays in this mode until `resume`.
        """
        if not self.state.over:
            self._enter(State.MANUAL, None if self.state is State.MANUAL else BY_HAND)
            self._by_hand = command
            self._by_hand_since = self.t

    def resume(self) -> None:
        """Go on with the round after `hold` or `manual`."""
        if self.state.told:
            self._enter(State.DRIVING, "")
            self._plans.drop()

    def step(
        self,
        t: float,
        scan: Scan,
        odometry: Track,
        people: Sequence[Walking] = (),
        *,
        applied: Command | None = None,
        localized: ArrayLike | None = None,
    ) -> Command:
        """Take in what was read since the last step and return the command until the next.

        It may be called at any rate, with or without a new scan. Nothing is raised for bad input: the robot stands,
        with the reason, until it gets better.

        Parameters
        ----------
        t : float
            Now, s.
        scan : Scan
            The last whole one; the same again where there is no new one.
        odometry : Track
            Poses in the track frame, from the scan's first beam at the latest until now.
        people : sequence of Walking
            Where people are, from whoever tracks them.
        applied : Command, optional
            What the base made of the last command, where it tells: the next one goes on from there.
        localized : array_like, (3,), optional
            Where an outside localization has the body in the site frame, at the odometry's last stamp. From the first
            one on it stands in place of our own; where there is none in a step, the odometry leads on.

        Returns
        -------
        Command
            Finite, within the robot's limits, and one that it can still stop from.
        """
        if applied is not None and np.all(np.isfinite(applied.velocity)):
            self._command = applied
            self._senses.applied(applied)
        came = self._watch.take(t, scan, odometry, self._command)
        came = replace(came, trouble=came.trouble or self.emergency)
        if localized is not None:
            told, wrong = read_pose(localized)
            came = replace(came, trouble=came.trouble or wrong)
            if told is not None and came.odometry is not None:
                self._senses.tell(float(came.odometry.t[-1]), told, came.odometry.poses[-1])
        if came.trouble:
            self._stand_for(came.trouble)
            self._command = self._safety.stop(came.t, self._command, came.elapsed, came.trouble)
        else:
            if self.state is State.STALE:
                self._enter(State.DRIVING, "")
            now = self._now = self._senses.take(came, people, self._command)
            wanted = raised_to_least(self._decide(now), now.command, self.robot.drive)
            self._command = self._safe(now, wanted)
            self._say_what_holds(now.t, wanted)
            if self.state is State.DRIVING:
                self._pace.take(now.measured, now.elapsed)
        self._senses.sent(came.t, self._command)
        self.log.enter(came.t, self.state, "" if self.goal is None else self.goal.name, self.reason)
        return self._command

    def _enter(self, state: State, reason: str | None = None) -> None:
        """Change the state, here and nowhere else; without a reason, what was said last goes on."""
        self.state = state
        if reason is not None:
            self.reason = reason

    def _safe(self, now: Situation, wanted: Command) -> Command:
        """Return what may be done of a command."""
        return self._safety.check(
            now.t,
            wanted,
            now.command,
            now.points,
            duration=now.elapsed,
            pose=now.ahead,
            floor=now.floor,
            people=now.people,
            measured=now.measured,
            unseen=now.unseen,
        )

    def _say_what_holds(self, t: float, wanted: Command) -> None:
        """Give safety's reason where it has held the robot up for a while: nothing does so silently."""
        if wanted.standing or not self._command.standing:
            self._held_since = np.inf
            if self.state is State.MANUAL and not wanted.standing:
                self._enter(State.MANUAL, BY_HAND)
            return
        self._held_since = min(self._held_since, t)
        if t - self._held_since >= HELD_LONG and self.log.interventions:
            self._enter(self.state, self.log.interventions[-1].rule)

    def _decide(self, now: Situation) -> Command:
        """Return what is wanted, by the state."""
        if self.state is State.MANUAL:
            hold = self._settings.navigation.manual_hold
            if now.t - self._by_hand_since <= hold:
                return self._by_hand
            self._enter(State.MANUAL, f"no command from a person for {hold:g} s")
            return Command()
        if self.state is State.HOLDING or self.state.over:
            return Command()
        if self._senses.base.disobeys:
            self._fail(self._senses.base.disobeys)
            return Command()
        if self.state is State.DWELLING:
            return self._dwell(now)
        self._ambiguous_since = min(self._ambiguous_since, now.t) if now.estimate.ambiguous else np.inf
        if self._recovery is None and (now.lost or now.t - self._ambiguous_since >= AMBIGUOUS_FOR):
            self._find_itself(now)
        if self._recovery is not None:
            wanted = self._recovery.step(now)
            if wanted is not None:
                return wanted
            self._end_recovery(now)
            if self.goal is None or self._recovery is not None:
                return Command()
        found = self._look(now)
        if found is Look.UNDER_WAY:
            self._enter(State.DRIVING, "plans a way")
        # Where there is no way to a stop that was given up, the next one has no plan yet.
        return self._drive(now) if found in (Look.SERVES, Look.TAKEN_UP) else Command()

    def _look(self, now: Situation) -> Look:
        """See to it that there is a plan that serves."""
        goal = self._stops.need().pose
        found = self._plans.look(now, goal, self._local.remaining, aligning=self._local.phase == "aligning")
        plan = self._plans.plan
        if found is Look.SERVES:
            self._enter(State.DRIVING)
        elif found is Look.TAKEN_UP and plan is not None:
            self._local.follow(self._plans.poses_to_follow(goal))
            self.log.plans.append((now.t, plan.poses))
            self._progress.replanned()
            self._enter(State.DRIVING, "")
        elif found is Look.NO_WAY and plan is not None:
            # While it does not know where it stands, it may not stand where the way is closed.
            why = plan.why_not
            may_be_gone = why is not None and why.place is not None and self._senses.costs.may_be_gone(*why.place)
            for_good = why is not None and why.cause in FOR_GOOD and not may_be_gone
            if for_good and (now.estimate.settled or plan.status != "start closed"):
                self._give_up(now, plan.reason)
            else:
                self._recover(now, plan.reason, may_pass=self._plans.may_pass(now.floor))
        return found

    def _drive(self, now: Situation) -> Command:
        """Return the local planner's command, unless it has arrived, or does not get on."""
        cap, capped_by = self._cap(now)
        local = self.local_plan = self._local.step(
            now.ahead, now.command, now.elapsed, floor=now.floor, people=now.people, cap=cap, capped_by=capped_by
        )
        self._enter(State.DRIVING, local.reason or ("" if self.plan is None else self.plan.reason))
        self.log.meet(now.t, local.encounters)
        if local.phase == "missed":
            self._plans.drop()
            self._misses += 1
            if limits_of(self.robot.drive).turns_on_the_spot or self._misses > COMES_IN_AGAIN:
                self._recover(now, local.reason)
            return Command()
        if local.phase == "arrived" and now.standing:
            self._arrive(now)
            return Command()
        worn_out = self._patience.worn_out(now.t, self.distance_left, self._stops.need().rules.patience)
        if worn_out:
            self._give_up(now, worn_out)
            return Command()
        stands = done_of(now.command, self.robot.drive).standing and local.phase == "driving" and not now.people_near
        if self._standing.stands_too_long(
            now.t, now.pose, stands and not limits_of(self.robot.drive).turns_on_the_spot
        ):
            self._plans.drop()
            return Command()
        if not self._progress.goes_on(now.t, now.pose, self._local.remaining):
            why, lasts = self._why_slow(now), self._settings.navigation.stuck_after
            self._recover(now, f"no progress for {lasts:g} s" + (f" ({why})" if why else ""), may_pass=True)
            return Command()
        return local.command

    def _cap(self, now: Situation) -> tuple[float, str]:
        """Return how fast it may drive, m/s, and why no faster."""
        cap, why, _ = self._safety.cap(now.ahead, now.floor, now.people, heading_for=now.command)
        caps = [(cap, why)]
        if self.speed_share < 1.0:
            caps.append((max(self.speed_share, 0.0) * self.robot.drive.top_speed, "as it was told"))
        if astray := self._senses.base.astray(now.t):
            caps.append((ASTRAY_SPEED, astray))
        if not now.estimate.settled:
            unsettled = self._settings.navigation.unsettled_speed
            caps.append((unsettled, f"until it knows where it is: {now.estimate.reason}"))
        return min(caps, key=lambda each: each[0])

    def _why_slow(self, now: Situation) -> str:
        """Return what held it up: safety's last word, or the local planner's."""
        last = self.log.interventions[-1] if self.log.interventions else None
        if last is not None and now.t - last.end < JUST_NOW:
            return last.rule
        return self.local_plan.reason if self.local_plan is not None else ""

    def _find_itself(self, now: Situation) -> None:
        """Lost on the way: that comes before everything else."""
        self._plans.drop()
        self._recovery = FindMyself(now.estimate.reason, now, self._guarded, self._settings.recovery)
        self._enter(State.FINDING_ITSELF, str(self._recovery))

    def _recover(self, now: Situation, reason: str, *, may_pass: bool = False) -> None:
        """Begin what comes next in the order of recovery, or give the stop up.

        Where the trouble `may_pass` by itself, as people and carts do, it waits on as long as the stop's rules say.
        """
        self._progress.restart(now.t)
        if self._progress.moved_since_recovery:
            self._order.restart()
            self._patience.gone_on()
        kind = self._order.next()
        lasts = self._patience.lasts(now.t, self._stops.need().rules.patience)
        if kind is None and may_pass and lasts:
            kind = Wait
        if kind is None:
            self._give_up(now, reason)
            return
        self._recovery = kind(reason, now, self._guarded, self._settings.recovery)
        self._recovery.begin(self._senses, self._stops)
        if self._recovery.starts_over:
            self._order.restart()
        self._enter(State.RECOVERING, str(self._recovery))

    def _end_recovery(self, now: Situation) -> None:
        """Plan at once from what the recovery has brought; if there is still no way, the next one begins."""
        recovery, self._recovery = self._recovery, None
        if isinstance(recovery, FindMyself) and (now.lost or now.estimate.ambiguous):
            self._fail(f"it does not know where it is: {now.estimate.reason}")
        elif now.lost:
            self._find_itself(now)
        else:
            self._plans.drop()
            self._progress.recovered(now.pose)
            self._enter(State.DRIVING, "")

    def _give_up(self, now: Situation, reason: str) -> None:
        """A stop has failed: say why in full, and do what its rules say."""
        goal = self._stops.need()
        reason = self._plans.why_not(now, goal.pose) or reason
        self._recovery = None
        self._order.restart()
        self._plans.drop()
        if self._stops.may_try_again():
            self._enter(State.DRIVING, f"tries {goal.name} again: {reason}")
        elif goal.rules.on_failure == "stop":
            self._fail(reason)
        else:
            self._close_stop("failed", reason)

    def _arrive(self, now: Situation) -> None:
        """Stand at the stop, or plan anew where the robot was pushed or relocated since the plan was made."""
        goal = self._stops.need()
        off = now.pose - goal.pose
        distance, turn = float(np.hypot(off[0], off[1])), abs(float(wrap_angle(off[2])))
        if distance > goal.rules.position_tolerance or turn > np.radians(goal.rules.heading_tolerance_deg):
            self._plans.drop()
            return
        self._dwells_since = now.t
        self._order.restart()
        self._enter(State.DWELLING, f"at {goal.name}")

    def _dwell(self, now: Situation) -> Command:
        """Stand at the stop as long as its rules say."""
        if now.t - self._dwells_since >= self._stops.need().rules.dwell:
            self._close_stop("reached", "")
        return Command()

    def _close_stop(self, status: Literal["reached", "failed"], reason: str) -> None:
        """Note how a stop ended, and go on to the next, or end the round."""
        goal = self._stops.close()
        self._misses = 0
        self._patience.restart()
        self._note([goal], status, reason)
        self._plans.drop()
        self._progress.restart(self.t)
        if self.goal is not None:
            self._enter(State.DRIVING, "")
            return
        failed = [stop for stop in self.log.stops if stop.status == "failed"]
        why = "; ".join(f"{stop.name}: {stop.reason}" for stop in failed)
        self._enter(State.FAILED if failed else State.FINISHED, why)

    def _stand_for(self, trouble: str) -> None:
        """Stand for want of good input; too long, and the round is over."""
        if self.state.over or self.state.told:
            return
        if self._watch.lasting >= self._settings.safety.give_up_after:
            self._fail(f"no input to drive by for {self._watch.lasting:.0f} s: {trouble}")
        else:
            self._enter(State.STALE, trouble)

    def _fail(self, reason: str) -> None:
        """End the round: no stop that is left is reached."""
        self._note(self._stops.close_all(), "failed", reason)
        self._enter(State.FAILED, reason)

    def _note(self, goals: Sequence[StopGoal], status: Literal["reached", "failed", "cancelled"], reason: str) -> None:
        """Note how stops ended."""
        self.log.stops += [StopResult(goal.name, status, reason, self.t, self.pose, goal.pose) for goal in goals]
