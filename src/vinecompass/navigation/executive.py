"""The executive: decides what is wanted next on the way round the stops, by the state that the mission is in."""

from __future__ import annotations

from collections.abc import Callable, Mapping, Sequence
from typing import Literal

import numpy as np
from numpy.typing import NDArray

from vinecompass.following import LocalPlan, LocalPlanner
from vinecompass.geometry import wrap_angle
from vinecompass.motion import Command, done_of, limits_of
from vinecompass.navigation.mission.mission_log import MissionLog, StopResult
from vinecompass.navigation.mission.patience import Patience
from vinecompass.navigation.mission.progress import ProgressWatch, StandingWatch
from vinecompass.navigation.mission.round import StopGoal
from vinecompass.navigation.mission.state import State
from vinecompass.navigation.mission.stops import StopQueue
from vinecompass.navigation.plan_keeper import Look, PlanKeeper
from vinecompass.navigation.recovery.find_myself import FindMyself
from vinecompass.navigation.recovery.recoveries import RECOVERIES, RecoveryOrder, Wait
from vinecompass.navigation.recovery.recovery import Recovery
from vinecompass.navigation.safety import Safety
from vinecompass.navigation.sensing.senses import Senses
from vinecompass.navigation.sensing.situation import Situation
from vinecompass.planning import Plan
from vinecompass.robot import Robot
from vinecompass.settings import Settings

__all__ = ["BY_HAND", "Executive"]

FloatArray = NDArray[np.float64]
FOR_GOOD = ("occupied", "zone", "one-way zone", "walls")
"""Causes in the map itself for there being no plan: no recovery takes them away."""
GIVEN_LAYERS = ("map", "zones")
"""Layers of which nothing that is seen opens any floor, where the map's walls still stand."""
COMES_IN_AGAIN = 3
"""Times that a car that missed a stop comes in again before it recovers: it cannot put itself right on the spot."""
STANDS_FOR = 1.0
"""Seconds for which what cannot turn on the spot stands on its plan before another is made from there.

Where it is a hand's breadth beside its plan, the plan may lead no further, and another one begin with a step back.
"""
BY_HAND = "a person drives"
"""Why it does as it does in manual mode."""
AMBIGUOUS_FOR = 2.0
"""Seconds of its being in one of several places after which it finds out in which: it would drive by a mere guess."""
ASTRAY_SPEED = 0.3
"""m/s at which it drives a base that turns otherwise than it is told."""
JUST_NOW = 1.0
"""Seconds since safety's last intervention within which it is what holds the robot up."""


class Executive:
    """Sees to the plan, drives by a local plan, recovers where that gets nowhere, and gives up where nothing helps.

    It is the layer between planning and control that keeps track of how the mission goes (Gat, 1998).

    Parameters
    ----------
    robot : Robot
    goals : list of StopGoal
    pose : array, (3,), or None
        Where the robot is taken to be, in the site frame. None: it must find itself first.
    settings : Settings
    senses : Senses
    plans : PlanKeeper
    local : LocalPlanner
    safety : Safety
    recoveries : mapping of str to type of Recovery
        Besides those that are known.
    log : MissionLog

    Attributes
    ----------
    state : State
    reason : str
        Why it is in that state, or what limits its speed.
    stops : StopQueue
    plans : PlanKeeper
    local : LocalPlanner
    local_plan : LocalPlan or None
        The last one.
    speed_share : float
        Share of the speeds that it may drive at, 0 to 1.
    t : float
        Of the last decision, s.
    pose : array, (3,)
        Where the robot was then.
    """

    def __init__(
        self,
        robot: Robot,
        goals: list[StopGoal],
        pose: FloatArray | None,
        *,
        settings: Settings,
        senses: Senses,
        plans: PlanKeeper,
        local: LocalPlanner,
        safety: Safety,
        recoveries: Mapping[str, type[Recovery]],
        log: MissionLog,
    ) -> None:
        navigation = settings.navigation
        self.state = State.FINDING_ITSELF if pose is None else State.DRIVING
        self.reason = ""
        self.stops = StopQueue(goals)
        self.plans = plans
        self.local = local
        self.local_plan: LocalPlan | None = None
        self.speed_share = 1.0
        self.t = 0.0
        self.pose = np.zeros(3) if pose is None else pose
        self._robot = robot
        self._navigation = navigation
        self._recovering = settings.recovery
        self._senses = senses
        self._safety = safety
        self._log = log
        self._progress = ProgressWatch(navigation.stuck_after, navigation.stuck_progress)
        self._standing = StandingWatch(STANDS_FOR)
        self._patience = Patience(robot.drive.top_speed)
        self._order = RecoveryOrder(navigation.recovery, {**RECOVERIES, **recoveries})
        self._recovery: Recovery | None = None
        self._guarded = robot.widened(settings.safety.margin)
        self._by_hand = Command()
        self._by_hand_since = -np.inf
        self._ambiguous_since = np.inf
        self._dwells_since = -np.inf
        self._misses = 0

    @property
    def distance_left(self) -> float:
        """How far it is to the next stop along the plan, m; `nan` without one."""
        ahead = self.local.remaining
        if not self.plans.found or len(ahead) == 0:
            return float("nan")
        to_plan, steps = ahead[0, :2] - self.pose[:2], np.diff(ahead[:, :2], axis=0)
        return float(np.hypot(*to_plan) + np.hypot(steps[:, 0], steps[:, 1]).sum())

    def decide(self, now: Situation) -> Command:
        """Return what is wanted, by the state."""
        self.t, self.pose = now.t, now.pose
        if self.state is State.MANUAL:
            return self._command_by_hand()
        if self.state is State.HOLDING or self.state.over:
            return Command()
        if self._senses.base.disobeys:
            self.fail(self._senses.base.disobeys)
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
            if self.stops.next is None or self._recovery is not None:
                return Command()
        found = self._look(now)
        if found is Look.UNDER_WAY:
            self.enter(State.DRIVING, "plans a way")
        # Where there is no way to a stop that was given up, the next one has no plan yet.
        return self._drive(now) if found in (Look.SERVES, Look.TAKEN_UP) else Command()

    def enter(self, state: State, reason: str | None = None) -> None:
        """Change the state, here and nowhere else; without a reason, what was said last goes on."""
        self.state = state
        if reason is not None:
            self.reason = reason

    def drive_by_hand(self, command: Command) -> None:
        """Want what a person does, for ``navigation.manual_hold`` seconds from now."""
        if not self.state.over:
            self.enter(State.MANUAL, None if self.state is State.MANUAL else BY_HAND)
            self._by_hand, self._by_hand_since = command, self.t

    def cancel(self, reason: str) -> None:
        """Let go of all stops that are left."""
        self._note(self.stops.close_all(), "cancelled", reason)
        self._recovery = None
        self.plans.drop()
        if not self.state.over:
            self.enter(State.FINISHED, f"cancelled: {reason}")

    def fail(self, reason: str) -> None:
        """End the round: no stop that is left is reached."""
        self._note(self.stops.close_all(), "failed", reason)
        self.enter(State.FAILED, reason)

    def _command_by_hand(self) -> Command:
        """Return a person's last command while it holds: whoever lets go stops the robot."""
        hold = self._navigation.manual_hold
        if self.t - self._by_hand_since <= hold:
            return self._by_hand
        self.enter(State.MANUAL, f"no command from a person for {hold:g} s")
        return Command()

    def _look(self, now: Situation) -> Look:
        """See to it that there is a plan that serves."""
        goal = self.stops.need().pose
        found = self.plans.look(now, goal, self.local.remaining, aligning=self.local.phase == "aligning")
        plan = self.plans.plan
        if found is Look.SERVES:
            self.enter(State.DRIVING)
        elif found is Look.TAKEN_UP and plan is not None:
            self.local.follow(self.plans.poses_to_follow(goal))
            self._log.plans.append((now.t, plan.poses))
            self._progress.replanned()
            self.enter(State.DRIVING, "")
        elif found is Look.NO_WAY and now.estimate.has_rival:
            # Where it stands is in doubt, and with it that no way leads on from there.
            self._find_itself(now)
        elif found is Look.NO_WAY and plan is not None:
            # While it does not know where it stands, it may not stand where the way is closed.
            if self._closed_for_good(now, plan) and (now.estimate.settled or plan.status != "start closed"):
                self._give_up(now, plan.reason)
            else:
                seen = self._senses.costs.obstacles.points
                self._recover(now, plan.reason, may_pass=lambda: self.plans.may_pass(now, goal, seen))
        return found

    def _closed_for_good(self, now: Situation, plan: Plan) -> bool:
        """Tell whether the map itself or a zone leaves no plan: then no recovery brings one."""
        why = plan.why_not
        if why is None or (why.place is not None and self._senses.costs.may_be_gone(*why.place)):
            return False
        if plan.status != "goal closed" or why.place is None:
            return why.cause in FOR_GOOD
        return now.floor.closing_layer(now.floor.grid.cells_at(why.place)) in GIVEN_LAYERS

    def _drive(self, now: Situation) -> Command:
        """Return the local planner's command, unless it has arrived, or does not get on."""
        cap, capped_by = self._cap(now)
        local = self.local_plan = self.local.step(
            now.ahead, now.command, now.elapsed, floor=now.floor, people=now.people, cap=cap, capped_by=capped_by
        )
        self.enter(State.DRIVING, local.reason or ("" if self.plans.plan is None else self.plans.plan.reason))
        self._log.meet(now.t, local.encounters)
        if local.phase == "missed":
            self.plans.drop()
            self._misses += 1
            if limits_of(self._robot.drive).turns_on_the_spot or self._misses > COMES_IN_AGAIN:
                self._recover(now, local.reason)
            return Command()
        if local.phase == "arrived" and now.standing:
            self._arrive(now)
            return Command()
        worn_out = self._patience.worn_out(now.t, self.distance_left, self.stops.need().rules.patience)
        if worn_out:
            self._give_up(now, worn_out)
            return Command()
        stands = done_of(now.command, self._robot.drive).standing and local.phase == "driving" and not now.people_near
        if self._standing.stands_too_long(
            now.t, now.pose, stands and not limits_of(self._robot.drive).turns_on_the_spot
        ):
            self.plans.drop()
            return Command()
        if not self._progress.goes_on(now.t, now.pose, self.local.remaining):
            why, lasts = self._why_slow(now), self._navigation.stuck_after
            self._recover(now, f"no progress for {lasts:g} s" + (f" ({why})" if why else ""), may_pass=lambda: True)
            return Command()
        return local.command

    def _cap(self, now: Situation) -> tuple[float, str]:
        """Return how fast it may drive, m/s, and why no faster."""
        cap, why, _ = self._safety.cap(now.ahead, now.floor, now.people, heading_for=now.command)
        caps = [(cap, why)]
        if self.speed_share < 1.0:
            caps.append((max(self.speed_share, 0.0) * self._robot.drive.top_speed, "as it was told"))
        if astray := self._senses.base.astray(now.t):
            caps.append((ASTRAY_SPEED, astray))
        if not now.estimate.settled:
            unsettled = self._navigation.unsettled_speed
            caps.append((unsettled, f"until it knows where it is: {now.estimate.reason}"))
        return min(caps, key=lambda each: each[0])

    def _why_slow(self, now: Situation) -> str:
        """Return what held it up: that scans and odometry differ, safety's last word, or the local planner's."""
        if self._senses.base.suspected:
            return self._senses.base.suspected
        last = self._log.interventions[-1] if self._log.interventions else None
        if last is not None and now.t - last.end < JUST_NOW:
            return last.rule
        return self.local_plan.reason if self.local_plan is not None else ""

    def _find_itself(self, now: Situation) -> None:
        """Lost on the way: that comes before everything else."""
        self.plans.drop()
        self._recovery = FindMyself(now.why_lost or now.estimate.reason, now, self._guarded, self._recovering)
        self.enter(State.FINDING_ITSELF, str(self._recovery))

    def _recover(self, now: Situation, reason: str, *, may_pass: Callable[[], bool] = lambda: False) -> None:
        """Begin what comes next in the order of recovery, or give the stop up.

        Where the trouble `may_pass` by itself, as people and carts do, it waits on as long as the stop's rules say.
        Finding that out takes time: it is asked only where nothing else is left.
        """
        self._progress.restart(now.t)
        if self._progress.moved_since_recovery:
            self._order.restart()
            self._patience.gone_on()
        kind = self._order.next()
        lasts = self._patience.lasts(now.t, self.stops.need().rules.patience)
        if kind is None and lasts and may_pass():
            kind = Wait
        if kind is None:
            self._give_up(now, reason)
            return
        self._recovery = kind(reason, now, self._guarded, self._recovering)
        self._recovery.begin(self._senses, self.stops)
        if self._recovery.starts_over:
            self._order.restart()
        self.enter(State.RECOVERING, str(self._recovery))

    def _end_recovery(self, now: Situation) -> None:
        """Plan at once from what the recovery has brought; if there is still no way, the next one begins."""
        recovery, self._recovery = self._recovery, None
        if isinstance(recovery, FindMyself) and (now.lost or now.estimate.ambiguous or now.estimate.has_rival):
            self.fail(f"it does not know where it is: {now.why_lost or now.estimate.reason}")
        elif now.lost:
            self._find_itself(now)
        else:
            self.plans.drop()
            self._progress.recovered(now.pose)
            self.enter(State.DRIVING, "")

    def _give_up(self, now: Situation, reason: str) -> None:
        """A stop has failed: say why in full, and do what its rules say."""
        goal = self.stops.need()
        reason = self.plans.why_not(now, goal.pose) or reason
        self._recovery = None
        self._order.restart()
        self.plans.drop()
        if self.stops.may_try_again():
            self.enter(State.DRIVING, f"tries {goal.name} again: {reason}")
        elif goal.rules.on_failure == "stop":
            self.fail(reason)
        else:
            self._close_stop("failed", reason)

    def _arrive(self, now: Situation) -> None:
        """Stand at the stop, or plan anew where the robot was pushed or relocated since the plan was made."""
        goal = self.stops.need()
        off = now.pose - goal.pose
        distance, turn = float(np.hypot(off[0], off[1])), abs(float(wrap_angle(off[2])))
        if distance > goal.rules.position_tolerance or turn > np.radians(goal.rules.heading_tolerance_deg):
            self.plans.drop()
            return
        self._dwells_since = now.t
        self._order.restart()
        self.enter(State.DWELLING, f"at {goal.name}")

    def _dwell(self, now: Situation) -> Command:
        """Stand at the stop as long as its rules say."""
        if now.t - self._dwells_since >= self.stops.need().rules.dwell:
            self._close_stop("reached", "")
        return Command()

    def _close_stop(self, status: Literal["reached", "failed"], reason: str) -> None:
        """Note how a stop ended, and go on to the next, or end the round."""
        goal = self.stops.close()
        self._misses = 0
        self._patience.restart()
        self._note([goal], status, reason)
        self.plans.drop()
        self._progress.restart(self.t)
        if self.stops.next is not None:
            self.enter(State.DRIVING, "")
            return
        failed = [stop for stop in self._log.stops if stop.status == "failed"]
        why = "; ".join(f"{stop.name}: {stop.reason}" for stop in failed)
        self.enter(State.FAILED if failed else State.FINISHED, why)

    def _note(self, goals: Sequence[StopGoal], status: Literal["reached", "failed", "cancelled"], reason: str) -> None:
        """Note how stops ended."""
        self._log.stops += [StopResult(goal.name, status, reason, self.t, self.pose, goal.pose) for goal in goals]
