"""What would open a way: something taken away from the floor, or something about the robot or its goal changed."""

from __future__ import annotations

from collections.abc import Callable, Iterator
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs import BodyCheck, ZoneLayer, one_way_headings, price_stack
from vinecompass.geometry import wrap_angle
from vinecompass.planning.curves.motions import DubinsMotion, ReedsSheppMotion, StraightMotion
from vinecompass.planning.problem import Problem
from vinecompass.planning.why.bottleneck import find_bottleneck
from vinecompass.planning.why.reason import WhyNot
from vinecompass.planning.why.suspects import Suspect, without
from vinecompass.planning.why.tried import HEADINGS
from vinecompass.robot import Robot

__all__ = ["Remedy", "of_the_robot", "smaller_body", "taking_away"]

FloatArray = NDArray[np.float64]
WIDTHS_TRIED = (0.97, 0.9, 0.75)
"""Shares of the width that would just fit through a narrow place, at which it is tried whether a body does."""
SIZES_TRIED = (0.9, 0.75, 0.6)
"""Shares of its size at which a body is tried where the narrowest place would let it pass."""
OFF_TRIED, EACH_OFF = (0.15, 0.3), 1
"""Metres by which a goal is tried beside itself, and places at each distance."""
RADII_TRIED = (0.8, 0.6, 0.4)
"""Shares of its turning radius at which a car is tried."""


@dataclass(frozen=True)
class Remedy:
    """One thing that may open a way.

    Parameters
    ----------
    cause : str
        As of `WhyNot`.
    changed : callable
        Yields the problem with it changed, one way after the other.
    told : callable
        Takes the problem before it is changed, though with all else that opens the way; the problem that has a way;
        and that way ``(N, 3)``. Returns the reason, whose remedy is what is to be done.
    """

    cause: str
    changed: Callable[[Problem], Iterator[Problem]]
    told: Callable[[Problem, Problem, FloatArray], WhyNot]


def taking_away(suspect: Suspect) -> Remedy:
    """Return the remedy of taking something away from the floor."""

    def changed(problem: Problem) -> Iterator[Problem]:
        yield _priced(problem, problem.robot, taken=suspect)

    def told(before: Problem, after: Problem, way: FloatArray) -> WhyNot:
        on_it = before.costmap.grid.values_at(way[:, :2], suspect.cells, False)
        x, y = (float(value) for value in way[int(np.argmax(on_it)) if np.any(on_it) else len(way) // 2, :2])
        place = suspect.place or (x, y)
        if suspect.cause == "unknown":
            text = f"every way leads over or beside unknown floor, first at {x:.2f}, {y:.2f}"
            return WhyNot("unknown", text, 'if it is driven to and mapped, or with costs.unknown = "free",', place)
        verb, them = ("lie", "them") if suspect.many else ("lies", "it")
        text = f"{suspect.what} {verb} across every way from start to goal"
        return WhyNot(suspect.cause, text, f"without {them}", place, what=suspect.what)

    return Remedy(suspect.cause, changed, told)


def smaller_body() -> Remedy:
    """Return the remedy of a smaller body: as wide as the narrowest place lets it be, or smaller as a whole."""

    def changed(problem: Problem) -> Iterator[Problem]:
        robot, fits = problem.robot, _fitting_width(problem)
        if fits <= 0.0:
            return
        wide = _width_of(robot)
        shares = [share * fits / wide for share in WIDTHS_TRIED]
        for scale in shares if shares[0] < 1.0 else SIZES_TRIED:
            outline = [(float(x) * scale, float(y) * scale) for x, y in robot.body.polygon]
            smaller = robot.model_copy(update={"body": type(robot.body)(outline=outline, radius=None)})
            yield _priced(problem, smaller)

    def told(before: Problem, after: Problem, way: FloatArray) -> WhyNot:
        robot, cell = before.robot, before.costmap.grid.cell_size
        wide, smaller = _width_of(robot), _width_of(after.robot)
        remedy = f"with a body {smaller:.2f} m wide"
        narrow = find_bottleneck(before.costmap, *before.ends)
        if narrow is None or _fitting_width(before) * WIDTHS_TRIED[0] >= wide:
            touched = BodyCheck(before.costmap, robot).touched_along(way)
            cells = way[len(way) // 2, :2] if touched is None else before.costmap.grid.points_of(touched[None])[0]
            x, y = (float(value) for value in cells)
            text = f"{robot.name} is too large to get round where it would touch something, as at {x:.2f}, {y:.2f}"
            return WhyNot("body", text, f"{remedy} and as much shorter", (x, y))
        short = max(wide - narrow.width, 0.0)
        what = f"{100.0 * short:.0f} cm too narrow" if short >= 0.005 else "wide enough only without a cell to spare"
        text = (
            f"the widest way from start to goal is {narrow.width:.2f} m wide at {narrow.x:.2f}, {narrow.y:.2f}, "
            f"{what}: {robot.name} needs {wide:.2f} m and a cell of {cell:g} m to spare"
        )
        return WhyNot("narrow", text, remedy, (narrow.x, narrow.y), narrow.width, wide + cell)

    return Remedy("body", changed, told)


def of_the_robot(problem: Problem) -> list[Remedy]:
    """Return what could be changed about how the robot moves and comes to its goal, the easiest first."""
    motion = problem.steering
    tolerance = Remedy("tolerance", _moved_goals, _told_tolerance)
    heading = Remedy("heading", _turned_goals, _told_heading)
    if isinstance(motion, DubinsMotion):
        return [tolerance, _reversing(motion), heading, _turning_tighter(motion), smaller_body()]
    if isinstance(motion, ReedsSheppMotion):
        return [tolerance, heading, _turning_tighter(motion), smaller_body()]
    return [tolerance, smaller_body(), heading]


def _reversing(motion: DubinsMotion) -> Remedy:
    def changed(problem: Problem) -> Iterator[Problem]:
        drive = problem.robot.drive
        backs = problem.robot.model_copy(update={"drive": drive.model_copy(update={"reverse_speed": drive.top_speed})})
        yield replace(problem, robot=backs, motion=ReedsSheppMotion(motion.radius))

    def told(before: Problem, after: Problem, way: FloatArray) -> WhyNot:
        return WhyNot(
            "reverse", f"{before.robot.name} drives ahead only, and no way leads there so", "in reverse as well"
        )

    return Remedy("reverse", changed, told)


def _turning_tighter(motion: DubinsMotion | ReedsSheppMotion) -> Remedy:
    def changed(problem: Problem) -> Iterator[Problem]:
        for share in RADII_TRIED:
            yield replace(problem, motion=type(motion)(share * motion.radius))
        yield replace(problem, motion=StraightMotion())

    def told(before: Problem, after: Problem, way: FloatArray) -> WhyNot:
        radius = getattr(after.steering, "radius", 0.0)
        text = f"{before.robot.name} turns in {motion.radius:.2f} m at the tightest, and has no room for that"
        remedy = f"with a turning radius of {radius:.2f} m" if radius else "turning on the spot"
        return WhyNot("turning radius", text, remedy)

    return Remedy("turning radius", changed, told)


def _moved_goals(problem: Problem) -> Iterator[Problem]:
    """Yield the problem with its goal a little off, where there is the most room at each distance."""
    grid, goal = problem.costmap.grid, problem.goal_pose
    for off in OFF_TRIED:
        poses = np.tile(goal, (len(HEADINGS), 1))
        poses[:, :2] += off * np.column_stack([np.cos(HEADINGS), np.sin(HEADINGS)])
        fitting = poses[problem.check.touched(poses) < 0]
        room = grid.values_at(fitting[:, :2], problem.costmap.clearance, 0.0)
        for pose in fitting[np.argsort(-room, kind="stable")[:EACH_OFF]]:
            yield replace(problem, goal=pose)


def _told_tolerance(before: Problem, after: Problem, way: FloatArray) -> WhyNot:
    x, y, _ = before.goal_pose
    off = after.goal_pose[:2] - before.goal_pose[:2]
    text = f"{before.robot.name} cannot come to {x:.2f}, {y:.2f} exactly"
    at = f"{after.goal_pose[0]:.2f}, {after.goal_pose[1]:.2f}"
    return WhyNot("tolerance", text, f"with {np.hypot(*off):.1f} m of tolerance, as at {at},", (float(x), float(y)))


def _turned_goals(problem: Problem) -> Iterator[Problem]:
    goal = problem.goal_pose
    turns = sorted(HEADINGS[1:], key=lambda turn: min(turn, 2.0 * np.pi - turn))
    for turn in turns:
        pose = np.array([goal[0], goal[1], wrap_angle(goal[2] + turn)])
        if problem.check.touched(pose)[0] < 0:
            yield replace(problem, goal=pose)


def _told_heading(before: Problem, after: Problem, way: FloatArray) -> WhyNot:
    x, y, heading = before.goal_pose
    text = f"{before.robot.name} cannot come to {x:.2f}, {y:.2f} at a heading of {np.degrees(heading):.0f} degrees"
    return WhyNot("heading", text, f"at {np.degrees(after.goal_pose[2]):.0f} degrees", (float(x), float(y)))


def _priced(problem: Problem, robot: Robot, taken: Suspect | None = None) -> Problem:
    """Return the problem for another body, or without something on the floor; it moves as before."""
    stack = tuple(problem.costmap.stack)
    stack = stack if taken is None else without(stack, taken, robot)
    zones = [zone for layer in stack if isinstance(layer, ZoneLayer) for zone in layer.zones]
    grid = problem.costmap.grid
    costmap = price_stack(grid, robot, stack, one_way_headings(grid, zones))
    return replace(problem, costmap=costmap, robot=robot, motion=problem.steering)


def _fitting_width(problem: Problem) -> float:
    """Return how wide a body may be to pass the narrowest place of the widest way by the cells of the map, m."""
    narrow = find_bottleneck(problem.costmap, *problem.ends)
    return 0.0 if narrow is None else 2.0 * (narrow.clearance - problem.costmap.grid.cell_size / 2.0)


def _width_of(robot: Robot) -> float:
    """Return how wide a body is across, m: straight through a narrow place that is what it needs."""
    return float(np.ptp(robot.body.polygon[:, 1]))
