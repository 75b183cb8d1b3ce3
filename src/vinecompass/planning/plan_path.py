"""One call for every planner: from a start pose to a goal pose, or the reason why not."""

from __future__ import annotations

import time
from collections.abc import Sequence
from dataclasses import replace
from itertools import pairwise

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs import CostMap, body_clearance
from vinecompass.door import checked
from vinecompass.geometry import distance_along
from vinecompass.planning.curves.motions import Motion
from vinecompass.planning.goals import Goal, Place, goal_poses, is_place, places_that_will_do
from vinecompass.planning.methods import OF_LINES, Planner, check_method, fault_of, find_way, name_of, usual_method
from vinecompass.planning.plan import Plan, Status, directions_of
from vinecompass.planning.problem import Problem, Way
from vinecompass.planning.why.end_closed import why_end_closed
from vinecompass.planning.why.no_way import why_no_way
from vinecompass.planning.why.reason import WhyNot
from vinecompass.planning.why.tried import try_again
from vinecompass.robot import Robot
from vinecompass.settings import PlanSettings

__all__ = ["clearance_along", "plan_path", "plan_round", "solve"]

FloatArray = NDArray[np.float64]
NO_ROOM = "no room to turn on the spot at one of its ends: to be left, or come to, in a gentle arc"
COARSE = "lattice with planning.lattice_cell = 0.15, lattice_headings = 16 and lattice_haste = 2"
"""What causes are tried by, in words: what it finds as it is, needs no cause."""
PLACES_TRIED = 5
"""Places in a region, or that pass a test, to which a way is looked for."""
PLACES_APART = 0.5
"""Metres from a place in vain to the next one that is tried."""


@checked
def plan_path(
    costmap: CostMap,
    robot: Robot,
    start: ArrayLike,
    goal: Goal,
    *,
    method: str | Planner | None = None,
    motion: Motion | None = None,
    settings: PlanSettings | None = None,
    seed: int = 0,
    explain: bool = True,
) -> Plan:
    """Plan from a start to a goal.

    With the methods "dijkstra", "a-star" and "any-angle" the path is a cheap one for the body's origin, shortened where
    a straight line is no dearer, and smoothed. Then the body's outline is checked at every pose against every forbidden
    cell; where it would touch, the origin is kept away from there and the search starts over. "lattice", "rrt",
    "rrt-connect", "rrt-star", "informed-rrt-star" and "roadmap" check the body on every edge, and take curves.
    Their turns between edges are checked as well, and what lies between the poses. If a plan of the first three leaves
    the body no room to turn on the spot at one of its ends, its `reason` says so.

    Parameters
    ----------
    costmap : CostMap
    robot : Robot
    start : array_like, (3,)
        In the site frame, m and radians.
    goal : array_like, (3,) or (K, 3), or shapely.Polygon, or callable
        The pose to reach; or several, of which it takes the one with the cheapest plan; or a region of the site, where
        any pose will do; or a test that takes a pose ``(3,)`` and tells whether it will do. Of a region or a test, the
        pose taken is the one that is cheapest to come to for the body's origin, and can be driven to.
    method : str or callable, optional
        One of `METHODS`, or a planner of your own: it takes a `Problem`, the settings and a generator, and returns a
        `Way`, which is checked before it is called found. If not given, what ``planning.method`` says; "usual" is
        "a-star", and where it finds no way, or none on which the body has room to turn at both ends, "lattice"; for a
        car "lattice". The plan's `method` says which.
    motion : Motion, optional
        Straight lines, `DubinsMotion`, `ReedsSheppMotion` or your own; what the drive can do, if not given.
    settings : PlanSettings, optional
    seed : int
        Of the methods that draw samples.
    explain : bool
        Whether to find out what is in the way if there is none, and how near the body comes to things if there is:
        either takes longer than planning.

    Returns
    -------
    Plan
        Whose `status`, `reason` and `why_not` say why, if there is no path.

    Raises
    ------
    InputError
        A pose is not finite or lies off the map, there is no such method, or it cannot plan for such a motion.

    Examples
    --------
    >>> from vinecompass import Grid, demo_file, price_floor, read_robot
    >>> robot = read_robot(demo_file("robot.toml"))
    >>> costmap = price_floor(Grid(np.full((80, 120), -3.0, np.float32), cell_size=0.05), robot)
    >>> plan = plan_path(costmap, robot, [1.0, 2.0, 0.0], [5.0, 2.0, 0.0])
    >>> plan.status, round(plan.length, 2), round(plan.cost, 2)
    ('found', 4.0, 4.0)
    """
    if is_place(goal):
        stand = Problem(costmap, robot, start, start, motion)
        return _to_a_place(stand, goal, method, settings, seed, explain)
    problems = [Problem(costmap, robot, start, pose, motion) for pose in goal_poses(goal)]
    if len(problems) == 1:
        return solve(problems[0], method, settings=settings, seed=seed, explain=explain)
    return _to_the_cheapest(problems, method, settings, seed, explain)


def _to_the_cheapest(
    problems: list[Problem], method: str | Planner | None, settings: PlanSettings | None, seed: int, explain: bool
) -> Plan:
    """Plan to several goals, the nearest first, as long as one may be cheaper than the best so far."""
    begun = time.perf_counter()
    away = [float(np.hypot(*(one.goal_pose - one.start_pose)[:2])) for one in problems]
    best: Plan | None = None
    for i in np.argsort(away, kind="stable"):
        # No floor is cheaper than its length.
        if best is not None and away[i] >= best.cost:
            break
        plan = solve(problems[i], method, settings=settings, seed=seed, explain=False)
        if plan.found and (best is None or plan.cost < best.cost):
            best = plan
    if best is None:
        nearest = problems[int(np.argmin(away))]
        plan = solve(nearest, method, settings=settings, seed=seed, explain=explain)
        best = replace(plan, reason=f"to none of {len(problems)} goals; to the nearest: {plan.reason}")
    return _explained(best, problems[0], begun, explain)


def _to_a_place(
    stand: Problem,
    goal: Place,
    method: str | Planner | None,
    settings: PlanSettings | None,
    seed: int,
    explain: bool,
) -> Plan:
    """Plan from where the robot stands to a pose in a region, or one that passes a test."""
    begun = time.perf_counter()
    tried: list[FloatArray] = []
    for pose in () if why_end_closed(stand, "start", stand.start_pose) else places_that_will_do(stand, goal):
        if any(np.hypot(*(pose - other)[:2]) < PLACES_APART for other in tried):
            continue
        plan = solve(replace(stand, goal=pose), method, settings=settings, seed=seed, explain=False)
        if plan.found:
            return _explained(plan, stand, begun, explain)
        tried.append(pose)
        if len(tried) == PLACES_TRIED:
            break
    if not tried and isinstance(goal, shapely.Polygon):
        point = goal.representative_point()
        tried.append(np.array([point.x, point.y, stand.start_pose[2]]))
    plan = solve(
        replace(stand, goal=tried[0] if tried else stand.start), method, settings=settings, seed=seed, explain=explain
    )
    if plan.found:
        nowhere = WhyNot("goal", "at no place that it can reach does the goal's test pass")
        return _without_path("no way", nowhere, Way(np.zeros((0, 3))), plan.method, begun)
    return plan


def _explained(plan: Plan, problem: Problem, begun: float, explain: bool) -> Plan:
    """Return a plan with the time that it took in all and, if asked for, how near the body comes to things."""
    nearest = clearance_along(problem, plan.poses, plan.method) if plan.found and explain else float("nan")
    return replace(plan, least_clearance=nearest, duration=time.perf_counter() - begun)


def solve(
    problem: Problem,
    method: str | Planner | None = None,
    *,
    settings: PlanSettings | None = None,
    seed: int = 0,
    explain: bool = True,
) -> Plan:
    """Plan for a problem; see `plan_path`."""
    begun = time.perf_counter()
    s = settings or PlanSettings()
    straight = problem.turns_on_the_spot
    asked = s.method if method is None else method
    chosen = usual_method(straight) if asked == "usual" else asked
    check_method(chosen, problem, key="planning.method" if method is None else "method")
    name = name_of(chosen)
    for which, pose in (("start", problem.start_pose), ("goal", problem.goal_pose)):
        closed = why_end_closed(problem, which, pose, s if explain else None)
        if closed is not None:
            status: Status = "start closed" if which == "start" else "goal closed"
            return _without_path(status, closed, Way(np.zeros((0, 3))), name, begun)
    way = find_way(problem, chosen, s, seed)
    if not isinstance(chosen, str) and (fault := fault_of(problem, way)):
        return _without_path("gave up", WhyNot("planner", f"{name} {fault}"), Way(np.zeros((0, 3))), name, begun)
    said = "" if name not in OF_LINES or _has_room_to_turn(problem, way.poses) else NO_ROOM
    if asked == "usual" and said:
        # On arcs, and in reverse, a long body may get through where it cannot turn on the spot.
        on_arcs = find_way(problem, "lattice", s, seed)
        if len(on_arcs.poses) or not len(way.poses):
            name, way = "lattice", on_arcs
        said = "on arcs, with no room to turn on the spot" if len(on_arcs.poses) else NO_ROOM
    poses = way.poses
    if len(poses) == 0 and not explain:
        return _without_path("no way" if name in OF_LINES else "gave up", None, way, name, begun)
    if len(poses) == 0:
        status, why = _why_nothing_found(problem, way, name, s, asked)
        return _without_path(status, why, way, name, begun)
    directions = directions_of(poses)
    return Plan(
        "found",
        said,
        poses,
        problem.check.drive_price(poses),
        float(distance_along(poses)[-1]),
        clearance_along(problem, poses, name) if explain else float("nan"),
        int(np.sum(np.diff(directions[directions != 0]) != 0)),
        way.expanded,
        way.iterations,
        time.perf_counter() - begun,
        name,
        way.explored,
        way.tree,
    )


def _turning_at_ends(poses: FloatArray) -> FloatArray:
    """Return the poses of a way of lines with the turn on the spot that it has at either end."""
    if len(poses) < 2:
        return poses
    begins, ends = poses[:1].copy(), poses[-1:].copy()
    x, y = poses[1, :2] - poses[0, :2]
    begins[0, 2] = np.arctan2(y, x)
    ends[0, 2] = poses[-2, 2] if len(poses) > 2 else begins[0, 2]
    return np.vstack([poses[:1], begins, poses[1:-1], ends, poses[-1:]])


def _has_room_to_turn(problem: Problem, poses: FloatArray) -> bool:
    """Tell whether there is a way of lines that leaves the body room to turn at its ends, on the spot or as it goes."""
    some = (_turning_at_ends(poses), poses[:2], poses[-2:])
    return len(poses) > 0 and all(problem.check.touched_along(part) is None for part in some)


def clearance_along(problem: Problem, poses: FloatArray, name: str) -> float:
    """Return how near the body comes to anything forbidden on a plan, between its poses, too, m."""
    driven = problem.check.between(_turning_at_ends(poses) if name in OF_LINES else poses)
    return float(body_clearance(problem.costmap, problem.robot, driven).min())


def _why_nothing_found(
    problem: Problem, way: Way, name: str, s: PlanSettings, asked: str | Planner
) -> tuple[Status, WhyNot]:
    """Return whether there is no way, or this method only gave up, and why."""
    others = [] if asked == "usual" else ["a-star", "lattice"] if problem.turns_on_the_spot else ["lattice"]
    for other in [*others, COARSE]:
        found = way if other == name else try_again(problem, s) if other == COARSE else find_way(problem, other, s, 0)
        if len(found.poses):
            length = float(distance_along(found.poses)[-1])
            tried = "everything it can reach" if way.exhausted else f"{way.iterations} iterations, {way.expanded} nodes"
            text = f"{name} found no way after {tried}"
            return "gave up", WhyNot("planner", text, f"{other} finds one of {length:.1f} m")
    return "no way", why_no_way(problem, s)


def _without_path(status: Status, why_not: WhyNot | None, way: Way, name: str, begun: float) -> Plan:
    """Return the plan that says why there is no path."""
    nothing = float("nan")
    return Plan(
        status,
        str(why_not or "there is no way"),
        np.zeros((0, 3)),
        nothing,
        nothing,
        nothing,
        0,
        way.expanded,
        way.iterations,
        time.perf_counter() - begun,
        name,
        way.explored,
        way.tree,
        why_not,
    )


def plan_round(
    costmap: CostMap,
    robot: Robot,
    poses: Sequence[ArrayLike],
    *,
    method: str | Planner | None = None,
    motion: Motion | None = None,
    settings: PlanSettings | None = None,
    seed: int = 0,
) -> list[Plan]:
    """Plan from each pose to the next, up to the first leg without a path; see `plan_path`."""
    legs: list[Plan] = []
    for start, goal in pairwise(poses):
        legs.append(plan_path(costmap, robot, start, goal, method=method, motion=motion, settings=settings, seed=seed))
        if not legs[-1].found:
            break
    return legs
