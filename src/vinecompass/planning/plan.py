"""One call for every planner: from a start pose to a goal pose, or the reason why not."""

from __future__ import annotations

import time
from collections.abc import Callable, Sequence
from dataclasses import dataclass, field, replace
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.comparing import ByValue
from vinecompass.costs import CostMap, body_clearance
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import distance_along, resample_polyline, wrap_angle
from vinecompass.planning.curves.motions import Motion, StraightMotion
from vinecompass.planning.lattice.lattice import lattice
from vinecompass.planning.problem import Problem, Way
from vinecompass.planning.search.grid_planners import a_star, any_angle, dijkstra
from vinecompass.planning.trees.roadmap import roadmap
from vinecompass.planning.trees.star_tree import informed_rrt_star, rrt_star
from vinecompass.planning.trees.trees import rrt, rrt_connect
from vinecompass.planning.why.why_not import WhyNot, why_end_closed, why_no_way
from vinecompass.robot import Robot
from vinecompass.settings import PlanSettings

__all__ = ["METHODS", "Plan", "plan_path", "plan_round", "solve", "usual_method"]

FloatArray = NDArray[np.float64]
Status = Literal["found", "start closed", "goal closed", "no way", "gave up"]
Planner = Callable[[Problem, PlanSettings, np.random.Generator], Way]

OF_LINES: dict[str, Planner] = {"dijkstra": dijkstra, "a-star": a_star, "any-angle": any_angle}
OF_MOTIONS: dict[str, Planner] = {
    "lattice": lattice,
    "rrt": rrt,
    "rrt-connect": rrt_connect,
    "rrt-star": rrt_star,
    "informed-rrt-star": informed_rrt_star,
    "roadmap": roadmap,
}
METHODS: dict[str, Planner] = OF_LINES | OF_MOTIONS
"""Every planner by its name; those of `OF_LINES` are for robots that turn on the spot."""
NO_ROOM = "no room to turn on the spot at one of its ends: to be left, or come to, in a gentle arc"
TAKE_TESTS = ("rrt", "rrt-star", "informed-rrt-star")
"""Methods whose tree grows from the start, so that it may end wherever a test says."""
TRIED_AGAIN = 5
"""Times that a way is looked for at most, where the body cannot drive the one found."""


@dataclass(frozen=True, eq=False, repr=False)
class Plan(ByValue):
    """A plan, or the reason why there is none.

    Parameters
    ----------
    status : {"found", "start closed", "goal closed", "no way", "gave up"}
        "gave up": there may be a way, but this planner did not find one in the time or the samples it had.
    reason : str
        One sentence that says where and why, if it is not found; if it is, what should be known of it: that it leads on
        arcs, or that there is no room to turn on the spot at one of its ends. Else empty.
    poses : array, (N, 3)
        From start to goal in the site frame. On a way of straight lines each heading points along it, but the first
        is the start's and the last the goal's.
    cost : float
        Metres-equivalent.
    length : float
        Metres.
    least_clearance : float
        From the body's outline to the nearest forbidden cell, anywhere along the plan, m; 1.5 counts as the most.
        `nan` if nothing was to be explained.
    reversals : int
        How often it changes between forward and reverse.
    expanded : int
        Cells or nodes whose neighbours the planner looked at.
    iterations : int
        Samples drawn, or searches made.
    duration : float
        Seconds of planning.
    method : str
    explored : array, (M, 2)
        Where it looked, in the site frame, thinned out for drawing.
    tree : array, (K, 2, 2)
        Edges of its tree or roadmap, in the site frame.
    why_not : WhyNot or None
        What closes the way, where, and what would open it.
    """

    status: Status
    reason: str
    poses: FloatArray
    cost: float
    length: float
    least_clearance: float
    reversals: int
    expanded: int
    iterations: int
    duration: float
    method: str
    explored: FloatArray = field(default_factory=lambda: np.zeros((0, 2)))
    tree: FloatArray = field(default_factory=lambda: np.zeros((0, 2, 2)))
    why_not: WhyNot | None = None

    def __repr__(self) -> str:
        """Return it in one line."""
        if not self.found:
            return f"<Plan by {self.method}: {self.status}; {self.reason}>"
        return f"<Plan by {self.method}: {self.length:.2f} m, costing {self.cost:.2f} m, {len(self.poses)} poses>"

    @property
    def found(self) -> bool:
        """Whether there is a path."""
        return self.status == "found"

    @property
    def backed_to(self) -> FloatArray:
        """The poses ``(M, 3)`` that it comes to in reverse."""
        return self.poses[1:][_directions(self.poses) < 0]

    def resampled(self, spacing: float) -> FloatArray:
        """Return poses ``(M, 3)`` evenly spaced along the plan, at most `spacing` metres apart, both ends kept.

        At a change between forward and reverse the spacing begins anew, so that the cusp stays.
        """
        cusps = np.flatnonzero(np.diff(_directions(self.poses)) != 0) + 1
        ends = [0, *cusps.tolist(), len(self.poses) - 1]
        legs = []
        for a, b in pairwise(ends):
            leg = self.poses[a : b + 1]
            even = resample_polyline(leg, spacing)
            along, wanted = distance_along(leg), distance_along(even)
            headings = np.interp(wanted * (along[-1] / max(wanted[-1], 1e-12)), along, np.unwrap(leg[:, 2]))
            legs.append(np.column_stack([even, wrap_angle(headings)]))
        return np.vstack([legs[0], *(leg[1:] for leg in legs[1:])])


@checked
def plan_path(
    costmap: CostMap,
    robot: Robot,
    start: ArrayLike,
    goal: ArrayLike,
    *,
    method: str | None = None,
    motion: Motion | None = None,
    goal_test: Callable[[FloatArray], bool] | None = None,
    settings: PlanSettings | None = None,
    seed: int = 0,
    explain: bool = True,
) -> Plan:
    """Plan from a start to a goal.

    With the methods "dijkstra", "a-star" and "any-angle" the path is a cheap one for the body's origin, shortened where
    a straight line is no dearer, and smoothed. Then the body's outline is checked at every pose against every forbidden
    cell; where it would touch, the origin is kept away from there and the search starts over. "lattice", "rrt",
    "rrt-connect", "rrt-star", "informed-rrt-star" and "roadmap" check the body on every edge, and take curves.
    Their turns between edges are checked as well, and what lies between the poses. Turning on the spot at the ends of
    the first three is the follower's business, and is checked where it drives.

    Parameters
    ----------
    costmap : CostMap
    robot : Robot
    start, goal : array_like, (3,)
        In the site frame, m and radians.
    method : str, optional
        One of `METHODS`. If not given, "a-star", and where it finds no way, or none on which the body has room to turn
        at both ends, "lattice"; for a car "lattice". The plan's `method` says which.
    motion : Motion, optional
        Straight lines, `DubinsMotion`, `ReedsSheppMotion` or your own; what the drive can do, if not given.
    goal_test : callable, optional
        Takes a pose and tells whether it will do as a goal: for "rrt", "rrt-star" and "informed-rrt-star".
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
        A pose is not finite or lies off the map, there is no such method, or it cannot plan for such a motion, or to
        wherever a test says.

    Examples
    --------
    >>> from vinecompass import Grid, demo_file, price_floor, read_robot
    >>> robot = read_robot(demo_file("robot.toml"))
    >>> costmap = price_floor(Grid(np.full((80, 120), -3.0, np.float32), cell_size=0.05), robot)
    >>> plan = plan_path(costmap, robot, [1.0, 2.0, 0.0], [5.0, 2.0, 0.0])
    >>> plan.status, round(plan.length, 2), round(plan.cost, 2)
    ('found', 4.0, 4.0)
    """
    return solve(
        Problem(costmap, robot, start, goal, motion, goal_test), method, settings=settings, seed=seed, explain=explain
    )


def usual_method(turns_on_the_spot: bool) -> str:
    """Return what plans where nobody says how: lines if the robot turns on the spot, else arcs."""
    return "a-star" if turns_on_the_spot else "lattice"


def solve(
    problem: Problem,
    method: str | None = None,
    *,
    settings: PlanSettings | None = None,
    seed: int = 0,
    explain: bool = True,
) -> Plan:
    """Plan for a problem; see `plan_path`."""
    begun = time.perf_counter()
    s = settings or PlanSettings()
    straight = problem.turns_on_the_spot
    name = method or usual_method(straight)
    _check_method(name, problem)
    for which, pose in (("start", problem.start_pose), ("goal", problem.goal_pose)):
        closed = why_end_closed(problem, which, pose)
        if closed is not None:
            status: Status = "start closed" if which == "start" else "goal closed"
            return _without_path(status, closed, Way(np.zeros((0, 3)), 0, 0), name, begun)
    way = _way(problem, name, s, seed)
    said = ""
    if method is None and straight and not (len(way.poses) and _finds_room_to_turn(problem, way.poses)):
        # On arcs, and in reverse, a long body may get through where it cannot turn on the spot.
        on_arcs = _way(problem, "lattice", s, seed)
        if len(on_arcs.poses) or not len(way.poses):
            name, way = "lattice", on_arcs
        said = "on arcs, with no room to turn on the spot" if len(on_arcs.poses) else NO_ROOM
    poses = way.poses
    if len(poses) == 0 and not explain:
        return _without_path("no way" if name in OF_LINES else "gave up", None, way, name, begun)
    if len(poses) == 0:
        status, why = _why_nothing_found(problem, way, name, s, seed)
        return _without_path(status, why, way, name, begun)
    directions = _directions(poses)
    return Plan(
        "found",
        said,
        poses,
        problem.check.drive_price(poses),
        float(distance_along(poses)[-1]),
        float(body_clearance(problem.costmap, problem.robot, poses).min()) if explain else float("nan"),
        int(np.sum(np.diff(directions[directions != 0]) != 0)),
        way.expanded,
        way.iterations,
        time.perf_counter() - begun,
        name,
        way.explored,
        way.tree,
    )


def _way(problem: Problem, name: str, s: PlanSettings, seed: int) -> Way:
    """Return the way that a method finds, or another where the body would touch something between two of its poses.

    Those that draw samples draw others, and all look at their moves twice as often.
    """
    rng = np.random.default_rng(seed)
    for _ in range(TRIED_AGAIN):
        way = METHODS[name](problem, s, rng)
        if name in OF_LINES or len(way.poses) == 0 or problem.check.is_clear_along(way.poses):
            return way
        s = s.model_copy(update={"edge_spacing": 0.5 * s.edge_spacing})
    return replace(way, poses=np.zeros((0, 3)))


def _finds_room_to_turn(problem: Problem, poses: FloatArray) -> bool:
    """Tell whether the body is clear all along a way of lines, turning at its ends on the spot or as it goes."""
    begins, ends = poses[:1].copy(), poses[-1:].copy()
    if len(poses) > 1:
        x, y = poses[1, :2] - poses[0, :2]
        begins[0, 2], ends[0, 2] = np.arctan2(y, x), poses[-2, 2] if len(poses) > 2 else np.arctan2(y, x)
    on_the_spot = np.vstack([poses[:1], begins, poses[1:-1], ends, poses[-1:]])
    return all(problem.check.is_clear_along(some) for some in (on_the_spot, poses[:2], poses[-2:]))


def _check_method(name: str, problem: Problem) -> None:
    """Raise `InputError` if there is no such method, or it takes no such motion, or no test in place of a goal."""
    if name not in METHODS:
        raise InputError("is no planner", key="method", value=name, expected=f"one of {', '.join(METHODS)}")
    if problem.goal_test is not None and name not in TAKE_TESTS:
        raise InputError(
            "takes a pose as its goal, and no test",
            key="method",
            value=name,
            expected=f"one of {', '.join(TAKE_TESTS)}",
        )
    if name in OF_LINES and not problem.turns_on_the_spot:
        raise InputError(
            "makes a path of straight lines, which this motion cannot follow",
            key="method",
            value=name,
            expected=f"one of {', '.join(OF_MOTIONS)}",
        )


def _why_nothing_found(problem: Problem, way: Way, name: str, s: PlanSettings, seed: int) -> tuple[Status, WhyNot]:
    """Return whether there is no way, or this method only gave up, and why."""
    plain = replace(problem, motion=StraightMotion(), goal_test=None)
    by_lines = way if name in OF_LINES else a_star(plain, s, np.random.default_rng(seed))
    if len(by_lines.poses) == 0:
        return "no way", why_no_way(plain, s, exhausted=by_lines.exhausted)
    length = float(distance_along(by_lines.poses)[-1])
    tried = "everything it can reach" if way.exhausted else f"{way.iterations} iterations, {way.expanded} nodes"
    turning = "" if problem.turns_on_the_spot else ", by turning on the spot"
    return "gave up", WhyNot(
        "planner",
        f"{name} found no way after {tried}",
        f"a-star finds one of {length:.1f} m for the origin{turning}",
    )


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
    method: str | None = None,
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


def _directions(poses: FloatArray) -> NDArray[np.int64]:
    """Return for each step between poses 1 forward, -1 in reverse, 0 on the spot."""
    steps, headings = np.diff(poses[:, :2], axis=0), poses[:, 2]
    # By the mean of the headings at both ends; a first or last pose may be turned on the spot.
    middle = np.arctan2(np.sin(headings[1:]) + np.sin(headings[:-1]), np.cos(headings[1:]) + np.cos(headings[:-1]))
    ahead = steps[:, 0] * np.cos(middle) + steps[:, 1] * np.sin(middle)
    return np.where(np.hypot(*steps.T) < 1e-9, 0, np.where(ahead >= 0.0, 1, -1))
