"""The navigator: localizes, plans, replans, drives, recovers and stays safe, one step at a time."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import Walking
from vinecompass.costs import CostMap, Layer
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.following import LocalPlan, LocalPlanner, local_planner
from vinecompass.grids import Grid, Zone
from vinecompass.localization import Estimate, SecondOpinion
from vinecompass.motion import Command, raised_to_least
from vinecompass.navigation.executive import BY_HAND, Executive
from vinecompass.navigation.input_watch import InputWatch
from vinecompass.navigation.loop_planning import LoopPlanner
from vinecompass.navigation.mission.mission_log import MissionLog
from vinecompass.navigation.mission.progress import Pace
from vinecompass.navigation.mission.round import StopGoal, checked_goals
from vinecompass.navigation.mission.state import State
from vinecompass.navigation.plan_keeper import GlobalPlanner, PlanKeeper
from vinecompass.navigation.recovery.recovery import Recovery
from vinecompass.navigation.safety import Safety
from vinecompass.navigation.scene import Scene
from vinecompass.navigation.sensing.outside_localization import read_pose
from vinecompass.navigation.sensing.senses import Senses
from vinecompass.navigation.sensing.situation import Situation
from vinecompass.planning import Plan, Planner
from vinecompass.robot import Robot
from vinecompass.runs import Scan, Track
from vinecompass.settings import Settings, differing_values

__all__ = ["Navigator"]

FloatArray = NDArray[np.float64]
HELD_LONG = 0.8
"""Seconds of standing against its own wish after which it says what holds it."""
TUNED = ("costs", "following", "window", "band", "people")
"""Tables of settings that may be turned while it drives."""


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
    emergency : str
        Why it must stand, as "red button"; it stops as long as this is not empty. To be set from outside.
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
        stops = checked_goals(grid, goals)
        self.robot = robot
        self.emergency = ""
        self.log = MissionLog()
        self._grid = grid
        self._watch = InputWatch(s.safety, robot)
        self._senses = Senses(grid, robot, told, zones=zones, layers=layers, settings=s, seed=seed, log=self.log)
        self._safety = Safety(robot, settings=s.safety, log=self.log)
        self._local_is_own = local is not None
        if planner is None or callable(planner):
            planner = LoopPlanner(s.safety.margin, s.planning, planner)
        self._executive = Executive(
            robot,
            stops,
            told,
            settings=s,
            senses=self._senses,
            plans=PlanKeeper(planner, robot, s.navigation, beside=plans_beside),
            local=local or local_planner(robot, s),
            safety=self._safety,
            recoveries=recoveries or {},
            log=self.log,
        )
        self._now: Situation | None = None
        self._command = Command()
        self._held_since = np.inf
        self._pace = Pace()

    @property
    def state(self) -> State:
        """What it is doing: "finding itself", "driving", "recovering", "dwelling" at a stop, "stale" (standing for want
        of good input), "holding" or "manual" (as it was told), "finished", or "failed".
        """
        return self._executive.state

    @property
    def reason(self) -> str:
        """Why it is in that state, or what limits its speed."""
        return self._executive.reason

    @property
    def speed_share(self) -> float:
        """Share of the speeds that it may drive at, 0 to 1: to be set from outside at any time."""
        return self._executive.speed_share

    @speed_share.setter
    def speed_share(self, share: float) -> None:
        self._executive.speed_share = share

    @property
    def t(self) -> float:
        """Of the last step with good input, s."""
        return self._executive.t

    @property
    def pose(self) -> FloatArray:
        """Where it believes to be ``(3,)`` in the site frame: the estimate, carried on to now by the odometry."""
        return self._executive.pose

    @property
    def estimate(self) -> Estimate | None:
        """The last one, at its scan's stamp."""
        return None if self._now is None else self._now.estimate

    @property
    def plan(self) -> Plan | None:
        """The last one made, found or not."""
        return self._executive.plans.plan

    @property
    def local_plan(self) -> LocalPlan | None:
        """The last one, with everything that was considered for it."""
        return self._executive.local_plan

    @property
    def goal(self) -> StopGoal | None:
        """The stop it is on its way to, or None when the round is over."""
        return self._executive.stops.next

    @property
    def command(self) -> Command:
        """The one it gave last."""
        return self._command

    @property
    def phase(self) -> str:
        """What the local planner is doing."""
        return self._executive.local.phase

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
        return self._executive.distance_left

    @property
    def time_left(self) -> float:
        """How long that takes at the pace of the last seconds of driving, s; `nan` before it has driven."""
        return self._pace.seconds_for(self.distance_left)

    def scene(self) -> Scene:
        """Return what it sees and weighs now, to be drawn; raise `InputError` before it has driven."""
        if self.local_plan is None or self._now is None:
            raise InputError("no local plan yet", key="step", expected="a step that drives first")
        ahead = self._executive.local.remaining
        return Scene(self.t, self.pose, ahead, self.local_plan, self.obstacles, self._now.people)

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
        self._executive.stops.add(stops)
        if self.state.over:
            self._senses.base.put_right()
            self._watch.put_right()
            self._executive.enter(State.DRIVING, "")

    def cancel(self, reason: str = "told to") -> None:
        """Let go of all stops that are left, and stop."""
        self._executive.cancel(reason)

    def relocate(self, pose: ArrayLike) -> None:
        """Take up where it is from outside, as when a person points at the map: ``(3,)`` in the site frame.

        Raises
        ------
        InputError
            The pose lies off the map, or inside a wall.
        """
        self._senses.relocate(np.asarray(pose, dtype=float))
        self._executive.plans.drop()

    def use(self, grid: Grid | None = None, *, zones: Sequence[Zone] | None = None) -> None:
        """Go on with another map of the same site, or with other zones; what is not given stays.

        Raises
        ------
        InputError
            The robot, or a stop that is left, lies off the map.
        """
        if grid is not None:
            for goal in self._executive.stops.left:
                checked_goals(grid, [goal])
        self._senses.use(grid, zones, self.pose)
        self._grid = grid or self._grid
        self._executive.plans.drop()

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
            self._executive.local = local_planner(self.robot, settings)
        self._executive.plans.drop()

    def hold(self, reason: str = "told to") -> None:
        """Stop and stand until `resume`."""
        if not self.state.over:
            self._executive.enter(State.HOLDING, reason)

    def manual(self, command: Command) -> None:
        """Let a person's command through for a moment; safety still has the last word.

        It holds for ``navigation.manual_hold`` seconds and must be given again and again: whoever lets go stops the
        robot. It stays in this mode until `resume`.
        """
        self._executive.drive_by_hand(command)

    def resume(self) -> None:
        """Go on with the round after `hold` or `manual`."""
        if self.state.told:
            self._executive.enter(State.DRIVING, "")
            self._executive.plans.drop()

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
                self._executive.enter(State.DRIVING, "")
            now = self._now = self._senses.take(came, people, self._command)
            wanted = raised_to_least(self._executive.decide(now), now.command, self.robot.drive)
            self._command = self._safe(now, wanted)
            self._say_what_holds(now.t, wanted)
            if self.state is State.DRIVING:
                self._pace.take(now.measured, now.elapsed)
        self._senses.sent(came.t, self._command)
        self.log.enter(came.t, self.state, "" if self.goal is None else self.goal.name, self.reason)
        return self._command

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
                self._executive.enter(State.MANUAL, BY_HAND)
            return
        self._held_since = min(self._held_since, t)
        if t - self._held_since >= HELD_LONG and self.log.interventions:
            self._executive.enter(self.state, self.log.interventions[-1].rule)

    def _stand_for(self, trouble: str) -> None:
        """Stand for want of good input; too long, and the round is over."""
        if self.state.over or self.state.told:
            return
        if self._watch.lasting >= self._settings.safety.give_up_after:
            self._executive.fail(f"no input to drive by for {self._watch.lasting:.0f} s: {trouble}")
        else:
            self._executive.enter(State.STALE, trouble)
