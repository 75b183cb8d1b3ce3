"""The global plan that is being followed: when it is looked at, when another is made, and which of the two is kept."""

from __future__ import annotations

from concurrent.futures import Future, ThreadPoolExecutor
from dataclasses import dataclass
from enum import Enum, auto
from typing import Protocol

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs import BodyCheck, CostMap, body_touches
from vinecompass.following import share_in_company
from vinecompass.geometry import wrap_heading
from vinecompass.motion import limits_of
from vinecompass.navigation.loop_planning import free_start
from vinecompass.navigation.sensing.situation import Situation
from vinecompass.planning import CostToGo, Plan
from vinecompass.robot import Robot
from vinecompass.settings import NavigationSettings

__all__ = ["GlobalPlanner", "Look", "PlanKeeper"]

FloatArray = NDArray[np.float64]
CLEARLY_CHEAPER = 0.75, 0.5
"""Share of what the rest of a plan that still serves costs, less some metres, below which another is taken up."""

LEADS_FROM = 0.5
"""Metres from the robot from which a plan shows where it leads."""
LOOKED_AT_IN_A_CROWD = 3.0
"""Metres about the robot within which a plan must be free among many people."""
EIGHTHS = 1.0824
"""Times that a way over cells, which turns by eighths, may be as long as a straight one."""


class GlobalPlanner(Protocol):
    """What plans for the loop. One of your own is any object with this method."""

    def plan(self, costmap: CostMap, robot: Robot, start: FloatArray, goal: FloatArray, *, explain: bool) -> Plan:
        """Plan from a pose to a stop ``(3,)``; `explain` says whether there is time to find out why there is no way."""


class Look(Enum):
    """What a look at the plan came to."""

    NOT_YET = auto()
    """It is too early for another, and there is no plan."""
    UNDER_WAY = auto()
    """There is no plan, but one is being made, or will be once the robot stands."""
    SERVES = auto()
    TAKEN_UP = auto()
    """Another plan was made, and is to be followed from now on."""
    NO_WAY = auto()


@dataclass(frozen=True)
class _Asked:
    """A plan that was asked for, where it begins, and what it may cost at most to be taken up."""

    plan: Future[Plan | None]
    start: FloatArray
    most: float


class PlanKeeper:
    """Keeps the plan to the stop on the way to.

    Parameters
    ----------
    planner : GlobalPlanner
    robot : Robot
    settings : NavigationSettings
    beside : bool
        Whether plans are made beside the loop, in a thread of their own: a lattice may take a second, and a robot that
        drives cannot wait for it. Otherwise a look comes back with the plan.

    Attributes
    ----------
    plan : Plan or None
        The last one made, found or not.
    """

    def __init__(self, planner: GlobalPlanner, robot: Robot, settings: NavigationSettings, *, beside: bool) -> None:
        self._planner = planner
        self._thread = ThreadPoolExecutor(1) if beside else None
        self._asked: _Asked | None = None
        self._robot = robot
        self._settings = settings
        self._looked = -np.inf
        self._planned = -np.inf
        self._start = np.zeros(3)
        self._found_out: Plan | None = None
        self.plan: Plan | None = None

    def drop(self) -> None:
        """Let go of the plan, and of one that was asked for: the next look makes another."""
        self.plan = None
        self._asked = None
        self._looked = -np.inf

    @property
    def found(self) -> bool:
        """Whether there is a plan to follow."""
        return self.plan is not None and self.plan.found

    def look(self, now: Situation, goal: FloatArray, ahead: FloatArray, *, aligning: bool) -> Look:
        """Plan anew if there is no plan, or it is blocked, left, or old.

        Parameters
        ----------
        now : Situation
        goal : array, (3,)
        ahead : array, (M, 3)
            What is left of the plan.
        aligning : bool
            Whether the robot is at its end, and only turns: then another is of no use.
        """
        if self._asked is not None:
            return self._taken()
        s = self._settings
        too_early = now.t - self._looked < s.replan_period - 1e-9
        if (too_early or aligning) and self.found:
            return Look.SERVES
        if too_early:
            return Look.NOT_YET
        self._looked = now.t
        # With people about it, a plan is soon out of date.
        age = s.replan_period if now.people_near else s.plan_age
        serves = self.found and self._still_serves(now, ahead)
        if serves and now.t - self._planned < age:
            return Look.SERVES
        return self._plan_anew(now, goal, np.vstack([now.pose, ahead]) if serves else None)

    def why_not(self, now: Situation, goal: FloatArray) -> str:
        """Return in full why there is no plan; empty where there is one, or none was made."""
        self._find_out(now, goal)
        return "" if self.plan is None or self.plan.found else self.plan.reason

    def may_pass(self, now: Situation, goal: FloatArray, seen: FloatArray) -> bool:
        """Tell whether what leaves no plan is one of the points ``(N, 2)`` that were seen and are not of the map, m.

        It stands in the way, or narrows it; or it has passed just now.
        """
        self._find_out(now, goal)
        if self.found:
            return True
        why = self.plan.why_not if self.plan is not None else None
        if why is None or why.cause == "obstacle":
            return why is not None
        places = [part.place for part in (why, *why.parts) if part.place is not None]
        reach = self._robot.body.outer_radius
        return any(bool(np.any(np.hypot(*(seen - place).T) <= reach)) for place in places)

    def _find_out(self, now: Situation, goal: FloatArray) -> None:
        """Plan again, once, where there is no plan and it does not say why: on the way there was no time for that."""
        plan = self.plan
        if plan is not None and not plan.found and plan.why_not is None and plan is not self._found_out:
            plan = self._planner.plan(now.floor, self._robot, self._start_from(now), goal, explain=True)
            self.plan = self._found_out = plan

    def poses_to_follow(self, goal: FloatArray) -> FloatArray:
        """Return the plan's poses ``(N, 3)``, two or more, of which the last is the stop."""
        assert self.plan is not None
        # From where it stands to where it stands: a turn on the spot is left, or nothing.
        return self.plan.poses if len(self.plan.poses) > 1 else np.vstack([self._start, goal])

    def _still_serves(self, now: Situation, ahead: FloatArray) -> bool:
        """Tell whether the robot is on what is left of the plan, and the body can pass there."""
        if len(ahead) == 0 or np.hypot(*(ahead[0, :2] - now.pose[:2])) > self._settings.off_path:
            return False
        if share_in_company(now.pose, now.people) < 1.0:
            # What stands farther on in a crowd will have moved by the time the robot is there.
            ahead = ahead[np.hypot(*(ahead[:, :2] - now.pose[:2]).T) < LOOKED_AT_IN_A_CROWD]
        return bool(np.all(body_touches(now.floor, self._robot, ahead)[:, 0] < 0))

    def _turning_price(self, pose: FloatArray, poses: FloatArray) -> float:
        """Return the way that it could make in the time of turning to where a plan ``(M, 3)`` leads, m."""
        way = np.hypot(*(poses[:, :2] - pose[:2]).T)
        leads = poses[np.argmax(way > LEADS_FROM), 2] if np.any(way > LEADS_FROM) else poses[-1, 2]
        drive = self._robot.drive
        return abs(wrap_heading(float(leads - pose[2]))) * drive.top_speed / drive.top_turn_rate

    def _start_from(self, now: Situation) -> FloatArray:
        return free_start(now.floor, self._robot, now.pose)

    def _ask(self, now: Situation, goal: FloatArray, most: float) -> Look:
        """Ask for a plan that may cost so much, and return what has come of it by now."""
        start, hidden, explain = self._start_from(now), now.hidden(), now.command.standing
        if self._thread is not None:
            future = self._thread.submit(self._made, now.floor.as_now(), start, goal, hidden, most, explain)
        else:
            future = Future()
            future.set_result(self._made(now.floor, start, goal, hidden, most, explain))
        self._asked = _Asked(future, start, most)
        return self._taken()

    def _made(
        self, floor: CostMap, start: FloatArray, goal: FloatArray, hidden: FloatArray, most: float, explain: bool
    ) -> Plan | None:
        """Plan, or return None at once where no plan costs so little as it may at `most`.

        Where it would back over floor nearby that nobody has seen, it goes ahead first, if that leads there, too: then
        it sees what comes. `hidden`: points ``(N, 2)`` of such floor, in the site frame.
        """
        if most < np.inf and least_cost(floor, start, goal) > most:
            return None
        plan = self._planner.plan(floor, self._robot, start, goal, explain=explain)
        backing = plan.backed_to
        if len(backing) == 0 or len(hidden) == 0:
            return plan
        # About the stop itself it will have looked by then.
        about = self._robot.body.outer_radius + floor.grid.cell_size
        closed = floor.closed_at(hidden[np.hypot(*(hidden - goal[:2]).T) > about])
        if np.all(BodyCheck(closed, self._robot).touched(backing) < 0):
            return plan
        other = self._planner.plan(closed, self._robot, start, goal, explain=False)
        return other if other.found else plan

    def _taken(self) -> Look:
        """Take up the plan that was asked for, if it is there and wanted."""
        asked = self._asked
        assert asked is not None
        if not asked.plan.done():
            return Look.SERVES if self.found else Look.UNDER_WAY
        self._asked = None
        plan = asked.plan.result()
        if plan is None:
            return Look.SERVES
        kept = asked.most < np.inf
        if kept and not (plan.found and plan.cost + self._turning_price(asked.start, plan.poses) < asked.most):
            return Look.SERVES
        self.plan = plan
        self._start = asked.start
        return Look.TAKEN_UP if plan.found else Look.NO_WAY

    def _plan_anew(self, now: Situation, goal: FloatArray, former: FloatArray | None) -> Look:
        """Plan; where what is left of a `former` plan serves still, another is taken up only if clearly cheaper."""
        self._planned = now.t
        most = np.inf
        if former is not None and np.allclose(former[-1], goal):
            spent = BodyCheck(now.floor, self._robot).drive_price(former) + self._turning_price(now.pose, former)
            most = CLEARLY_CHEAPER[0] * spent - CLEARLY_CHEAPER[1]
            # Closed farther on, by people who will have moved, it has no price to compare with.
            if not np.isfinite(spent):
                return Look.SERVES
        elif (
            self._thread is not None and not now.command.standing and not limits_of(self._robot.drive).turns_on_the_spot
        ):
            # It could not follow a plan that begins where it has long been: it stands first.
            self._looked = -np.inf
            return Look.UNDER_WAY
        return self._ask(now, goal, most)


def least_cost(floor: CostMap, start: FloatArray, goal: FloatArray) -> float:
    """Return what any plan between two poses ``(3,)`` costs at least, m: the way of a point."""
    rows = floor.grid.cells_at([start[:2], goal[:2]])
    if not np.all(floor.grid.contains(rows)):
        return 0.0
    here, there = ((int(row), int(column)) for row, column in rows)
    field = CostToGo(floor.prices, there, floor.one_way)
    field.grow(here)
    return field.cost_to(here) * floor.grid.cell_size / EIGHTHS
