"""The global plan for the loop: a cheap one first, and one that minds the heading where the body cannot turn."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs import BodyCheck, CostMap
from vinecompass.errors import InputError
from vinecompass.geometry import (
    compose,
    distance_along,
    polyline_headings,
    relative,
    resample_polyline,
    turn_on_the_spot,
    wrap_heading,
)
from vinecompass.motion import limits_of
from vinecompass.planning import METHODS, Plan, Planner, plan_path, usual_method
from vinecompass.robot import Robot
from vinecompass.settings import PlanSettings

__all__ = ["LoopPlanner", "free_start", "turn_fits"]

FloatArray = NDArray[np.float64]
MARGIN_PARTS = (1.0, 0.5)
"""Parts of the margin that it is planned with, one after the other, before it is planned without."""
NEAR_CELLS = 8
"""Cells about the robot in which a place to plan from is looked for, if its own is closed."""
SMALL_TURN = 0.2
"""Radians that are not checked: less than a tenth of them is lost in any cell."""
SMALL_WAY = 0.06
"""Metres of a step below which it does not say which way the robot will point."""
ABOUT_AN_END = 5.0
"""Metres of the plan about a start or a goal in which it is seen to that the body gets the right way round."""
STRAIGHT_IN = 1.0
"""Metres before a stop within which the path leads straight at it, if that costs little more."""
LITTLE_MORE = 1.2
"""Times what the path costs there by itself."""
RUN_INS = (1.5, 0.8)
"""Metres before a stop from which a car goes straight in, the first that there is room for."""
RUN_IN_SPACING = 0.1
"""Metres between the poses of that."""
RUN_IN_OFF, RUN_IN_OFF_TURN = 0.03, np.radians(2.0)
"""Metres and radians that it may be off the line of its run-in and be taken to be on it."""
WAITING_REACH = 3.0
"""Metres about a taken stop in which a place to wait is looked for."""
OWN_SIDE = 0.2
"""Metres farther from the stop that a place to wait may be for each metre that it is nearer to the robot."""
UP_TO = 0.5
"""Metres from the place to wait within which there is no use in going on."""
HASTE = 1.5
"""How many times the cheapest a way that a lattice finds in the loop may cost: it is a few per cent in truth."""


class LoopPlanner:
    """Plans from where the robot is to a stop.

    First with the margin about the body that safety keeps free. Where that leads nowhere, with half of it, and then for
    the bare body: a wall that fills the better part of a cell in the map leaves room for the margin all the same.

    The usual plan leaves it to the robot to turn on the spot at either end. Where there is no room for that, as between
    two racks, a lattice is searched: it comes in the right way round, or backs in.

    A stop where something was seen that the map does not know, such as a person, may be free again by the time the
    robot is there: it is planned up to it, and the plan's `reason` says so.

    Parameters
    ----------
    margin : float
        What safety keeps free about the body, m.
    settings : PlanSettings, optional
    planner : callable, optional
        A planner of your own, as `plan_path` takes it, in place of the settings' ``method``.

    Raises
    ------
    InputError
        There is no such method.
    """

    def __init__(self, margin: float, settings: PlanSettings | None = None, planner: Planner | None = None) -> None:
        s = settings or PlanSettings()
        if s.method not in ("usual", *METHODS):
            raise InputError(
                "is no planner",
                key="planning.method",
                value=s.method,
                expected=f"usual, or one of {', '.join(METHODS)}",
            )
        self._margin = margin
        self._method = planner or s.method
        self._settings = s

    def plan(self, costmap: CostMap, robot: Robot, start: FloatArray, goal: FloatArray, *, explain: bool) -> Plan:
        """Plan from a pose to a stop ``(3,)`` in the site frame.

        `explain` says whether to find out what is in the way if there is no plan.
        """
        for part in MARGIN_PARTS:
            plan = self._minding_turns(costmap, robot.widened(part * self._margin), start, goal, explain=False)
            if plan.found:
                return plan
        plan = self._minding_turns(costmap, robot, start, goal, explain=explain)
        why = plan.why_not
        if self._method == "usual" and plan.status == "gave up":
            # There is a way, but not on straight lines.
            for body in (robot.widened(MARGIN_PARTS[-1] * self._margin), robot):
                turned = plan_path(
                    costmap, body, start, goal, method="lattice", settings=self._settings_for(robot), explain=False
                )
                if turned.found:
                    return turned
        if plan.status != "goal closed" or why is None or why.place is None:
            return plan
        if costmap.closing_layer(costmap.grid.cells_at([why.place])[0]) != "obstacles":
            return plan
        place = _waiting_place(costmap, robot, start, goal)
        if place is None or np.hypot(*(place - start)[:2]) < UP_TO:
            return plan
        up_to = self._minding_turns(costmap, robot, start, place, explain=False)
        return replace(up_to, reason=f"drives up to a stop that is taken: {why.text}") if up_to.found else plan

    def _settings_for(self, robot: Robot) -> PlanSettings:
        """Return the settings for the loop: it waits for no lattice, save for a car's, whose whole way depends on it.

        In reverse a car takes longer; what turns on the spot backs but to a stop at which it cannot turn.
        """
        drive, asked = robot.drive, self._settings
        if limits_of(drive).turns_on_the_spot:
            return asked.model_copy(update={"lattice_haste": max(asked.lattice_haste, HASTE)})
        slower = drive.top_speed / drive.reverse_speed if drive.reverse_speed > 0.0 else 1.0
        return asked.model_copy(update={"reverse_price": slower * asked.reverse_price})

    def _minding_turns(
        self, costmap: CostMap, robot: Robot, start: FloatArray, goal: FloatArray, *, explain: bool
    ) -> Plan:
        """Plan, and see to it that the body can turn at both ends as it must, or needs not."""
        settings = self._settings_for(robot)
        straight = limits_of(robot.drive).turns_on_the_spot
        method = usual_method(straight) if self._method == "usual" else self._method
        usual = plan_path(costmap, robot, start, goal, method=method, settings=settings, explain=explain)
        if usual.found and not straight:
            return self._lined_up(usual, costmap, robot, start, goal)
        if not usual.found or usual.method == "lattice":
            return usual
        check, leaves = BodyCheck(costmap, robot), False
        poses = _straight_in(check, usual.poses, settings.spacing)
        usual = replace(usual, poses=poses, cost=check.drive_price(poses), length=float(distance_along(poses)[-1]))
        leaving, arriving = _travelling(poses, 0, start), _travelling(poses, len(poses) - 1, start)
        # A turn on the spot sweeps the most floor, and walls are known to half a cell: with that besides, if it can be.
        for body in (robot.widened(0.5 * costmap.grid.cell_size), robot):
            check = BodyCheck(costmap, body)
            leaves = turn_fits(check, start, float(leaving[2]))
            arrives = turn_fits(check, arriving, float(goal[2]))
            if leaves and arrives:
                return usual
            whole = _searched_about_ends(costmap, body, start, goal, settings, poses, leaves, arrives)
            if len(whole):
                cost, length = check.drive_price(whole), float(distance_along(whole)[-1])
                return replace(usual, poses=whole, cost=cost, length=length, method=f"{usual.method}, lattice")
        where = "at the stop" if leaves else "where it stands"
        said = f"no room to turn on the spot {where}, and no way to come in the other way round"
        return replace(usual, status="no way", reason=said, poses=poses[:0])

    def _lined_up(self, usual: Plan, costmap: CostMap, robot: Robot, start: FloatArray, goal: FloatArray) -> Plan:
        """Plan to where the stop lies straight ahead, or behind, and straight in.

        A car cannot put its heading right at the stop itself. Where there is no room, the `usual` plan has to do.
        """
        settings, check = self._settings_for(robot), BodyCheck(costmap, robot)
        sides = (-1.0, 1.0) if robot.drive.reverse_speed > 0.0 else (-1.0,)
        off = relative(start, goal)
        for way in RUN_INS:
            found = []
            for side in sides:
                straight = compose(goal, np.linspace([side * way, 0.0, 0.0], np.zeros(3), round(way / RUN_IN_SPACING)))
                if np.any(check.touched(straight) >= 0):
                    continue
                if 0.0 < side * off[0] <= way and abs(off[1]) < RUN_IN_OFF and abs(off[2]) < RUN_IN_OFF_TURN:
                    poses = np.vstack([start, straight[np.abs(straight[:, :2] - goal[:2]).max(axis=1) < side * off[0]]])
                else:
                    first = plan_path(
                        costmap, robot, start, straight[0], method=self._method, settings=settings, explain=False
                    )
                    if not first.found:
                        continue
                    poses = np.vstack([first.poses, straight[1:]])
                found.append(
                    replace(usual, poses=poses, cost=check.drive_price(poses), length=float(distance_along(poses)[-1]))
                )
            if found:
                return min(found, key=lambda plan: plan.cost)
        return usual


def _waiting_place(costmap: CostMap, robot: Robot, start: FloatArray, goal: FloatArray) -> FloatArray | None:
    """Return the nearest pose to a stop at which the body has room to turn about, rather on the robot's side of it.

    It looks at the stop, to see when it is free.
    """
    first, last = costmap.grid.window_about(goal[:2], WAITING_REACH)
    window = np.s_[first[0] : last[0], first[1] : last[1]]
    roomy = costmap.clearance[window] > robot.body.outer_radius + costmap.grid.cell_size
    points = costmap.grid.points_of(np.argwhere(roomy & np.isfinite(costmap.prices[window])) + first)
    if len(points) == 0:
        return None
    away = np.hypot(*(points - goal[:2]).T) + OWN_SIDE * np.hypot(*(points - start[:2]).T)
    x, y = points[int(np.argmin(away))]
    return np.array([x, y, np.arctan2(goal[1] - y, goal[0] - x)])


def _straight_in(check: BodyCheck, poses: FloatArray, spacing: float) -> FloatArray:
    """Return a path that leads straight at its end from as far before it as it may.

    Prices draw a path along the middle of an aisle up to the last moment: the hook that is left to a stop beside it
    would have to be steered out of again.
    """
    along = distance_along(poses)
    for first in np.flatnonzero(along > along[-1] - STRAIGHT_IN)[:-1].tolist():
        points = resample_polyline(poses[[first, -1], :2], spacing)
        line = np.column_stack([points, polyline_headings(points)])
        if check.price(line) <= LITTLE_MORE * check.drive_price(poses[first:]):
            return np.vstack([poses[: first + 1], line[1:-1], poses[-1:]])
    return poses


def _searched_about_ends(
    costmap: CostMap,
    robot: Robot,
    start: FloatArray,
    goal: FloatArray,
    settings: PlanSettings,
    poses: FloatArray,
    leaves: bool,
    arrives: bool,
) -> FloatArray:
    """Return a path with the ends at which the body cannot turn searched by a lattice; empty if one finds none.

    Over a whole site the lattice would take seconds.
    """

    def searched(a: FloatArray, b: FloatArray) -> FloatArray:
        return plan_path(costmap, robot, a, b, method="lattice", settings=settings, explain=False).poses

    along = distance_along(poses)
    if not (leaves or arrives) and along[-1] < 2.0 * ABOUT_AN_END:
        return searched(start, goal)
    reach = min(ABOUT_AN_END, along[-1])
    low, high = (int(np.searchsorted(along, way)) for way in (reach, along[-1] - reach))
    out = poses[:1] if leaves else searched(start, goal if low == len(poses) - 1 else _travelling(poses, low, start))
    into = poses[-1:] if arrives or not len(out) else searched(_travelling(poses, high, start) if high else start, goal)
    between = poses[1 if leaves else low + 1 : -1 if arrives else high]
    return np.vstack([out, between, into]) if len(out) and len(into) else poses[:0]


def _travelling(poses: FloatArray, index: int, start: FloatArray) -> FloatArray:
    """Return a pose of a path of lines with the heading it is driven with; the robot's own where there is no way."""
    before, after = poses[max(index - 1, 0)], poses[min(index + 1, len(poses) - 1)]
    ahead = after - before
    heading = start[2] if np.hypot(ahead[0], ahead[1]) < SMALL_WAY else np.arctan2(ahead[1], ahead[0])
    return np.array([poses[index, 0], poses[index, 1], heading])


def turn_fits(check: BodyCheck, pose: FloatArray, heading: float) -> bool:
    """Tell whether the body can turn on the spot from a pose ``(3,)`` to a heading, one way round or the other."""
    short = wrap_heading(heading - float(pose[2]))
    if abs(short) < SMALL_TURN:
        return True
    for turn in (short, short - float(np.copysign(2.0 * np.pi, short))):
        if np.all(check.touched(turn_on_the_spot(pose, turn, 0.08))[1:] < 0):
            return True
    return False


def free_start(costmap: CostMap, robot: Robot, pose: FloatArray) -> FloatArray:
    """Return the pose to plan from: where the robot is, or the nearest open place if that is closed.

    An error of the estimate, or something seen too near, closes it.
    """
    grid, check = costmap.grid, BodyCheck(costmap, robot)
    cell = grid.cells_at(pose[None, :2])[0]
    on_map = bool(grid.contains(cell[None])[0])
    if not on_map or (np.isfinite(costmap.prices[tuple(cell)]) and check.touched(pose)[0] < 0):
        return pose
    low = np.maximum(cell - NEAR_CELLS, 0)
    block = costmap.prices[low[0] : cell[0] + NEAR_CELLS + 1, low[1] : cell[1] + NEAR_CELLS + 1]
    points = grid.points_of(np.argwhere(np.isfinite(block)) + low)
    poses = np.column_stack([points, np.full(len(points), pose[2])])
    poses = poses[check.touched(poses) < 0] if len(poses) else poses
    if len(poses) == 0:
        return pose
    away = np.hypot(poses[:, 0] - pose[0], poses[:, 1] - pose[1])
    return np.asarray(poses[int(np.argmin(away))], dtype=float)
