"""Why there is no plan: what closes the way, where, and what would open it, tried out before it is said."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs import CostMap, Layer, ZoneLayer, body_touches, one_way_headings, price_stack
from vinecompass.planning.problem import Problem
from vinecompass.planning.search.grid_planners import a_star
from vinecompass.planning.why.bottleneck import Bottleneck, find_bottleneck
from vinecompass.planning.why.changes import Change, all_suspects, suspects
from vinecompass.robot import Robot
from vinecompass.settings import PlanSettings

__all__ = ["WhyNot", "why_end_closed", "why_no_way"]

FloatArray = NDArray[np.float64]
WIDTHS_TRIED = (0.97, 0.9, 0.75)
"""Shares of the width that would just fit through a narrow place, at which it is tried whether a body does."""


@dataclass(frozen=True)
class WhyNot:
    """What closes the way.

    Parameters
    ----------
    cause : str
        "occupied", "unknown", "zone", "one-way zone", "layer", "obstacle", "clearance" or "heading" for a closed end;
        besides "narrow", "walls", "body", "several" and "planner" for a way.
    text : str
        What is wrong, and where.
    remedy : str
        What would open it; found by planning again with it changed. Empty if nothing was found.
    place : (x, y) or None
        Where, in the site frame, m.
    width, needed : float or None
        How wide a narrow place is, and how wide it would have to be, m.
    nearest : array, (3,), or None
        The pose nearest to a closed end at which the body fits.
    """

    cause: str
    text: str
    remedy: str = ""
    place: tuple[float, float] | None = None
    width: float | None = None
    needed: float | None = None
    nearest: FloatArray | None = None

    def __str__(self) -> str:
        return self.text + (f"; {self.remedy}" if self.remedy else "")


def why_end_closed(problem: Problem, which: str, pose: FloatArray) -> WhyNot | None:
    """Tell why the body cannot stand at the start or the goal, or None if it can."""
    costmap, robot = problem.costmap, problem.robot
    cell = problem.ends[0 if which == "start" else 1]
    touched = body_touches(costmap, robot, pose)[0]
    if np.isfinite(costmap.prices[cell]) and touched[0] < 0:
        return None
    name = costmap.closing_layer(cell)
    if name:
        cause, x, y = _kind(costmap, name, cell), *pose[:2]
        text = f"closed by the layer {name!r} ({costmap.why(name, float(x), float(y))})"
    else:
        near = costmap.nearest_forbidden(cell)
        at = touched if near is None or np.isfinite(costmap.prices[cell]) else near
        x, y = costmap.grid.points_of(at[None])[0]
        why = costmap.why(costmap.closing_layer(at), float(x), float(y))
        what = f"{costmap.closed_floor(at)}{f' ({why})' if why else ''} at {x:.2f}, {y:.2f}"
        if np.isinf(costmap.prices[cell]):
            needed = robot.body.inner_radius + costmap.grid.cell_size / 2.0
            cause = "clearance"
            text = f"{costmap.clearance[cell]:.2f} m from {what}, and the body needs {needed:.2f} m"
        else:
            cause, text = "heading", f"the body at that heading touches {what}"
    nearest = _nearest_open(costmap, robot, pose)
    remedy = ""
    if nearest is not None:
        degrees = np.degrees(nearest[2])
        remedy = f"the nearest pose where it fits is {nearest[0]:.2f}, {nearest[1]:.2f}, {degrees:.0f} degrees"
    return WhyNot(cause, f"{which} {pose[0]:.2f}, {pose[1]:.2f}: {text}", remedy, (float(x), float(y)), nearest=nearest)


def why_no_way(problem: Problem, settings: PlanSettings, *, exhausted: bool) -> WhyNot:
    """Tell what closes every way between an open start and an open goal.

    `exhausted` tells whether there is none even for the origin alone; otherwise it is the body that touches.
    """
    # What is taken away and opens the way is what closes it: all of a kind at once, then one by one.
    for kind, apart in suspects(problem.costmap):
        way = _way_over(problem, settings, kind.stack)
        if len(way):
            return _told(
                problem, next((one for one in apart if len(_way_over(problem, settings, one.stack))), kind), way
            )
    narrow = find_bottleneck(problem.costmap, *problem.ends)
    why = None if narrow is None else _too_narrow(problem, settings, narrow)
    if why is not None:
        return why
    if not exhausted:
        return WhyNot(
            "body",
            f"{problem.robot.name} touches something on each of the {settings.body_retries} ways tried",
            "the method lattice, which turns the body as it goes, may still find one",
        )
    everything = all_suspects(problem.costmap)
    if len(_way_over(problem, settings, everything.stack)):
        return WhyNot("several", f"only together {everything.what} close every way", f"without them {_opened()}")
    return WhyNot("walls", "what the map shows as occupied stands between start and goal on all sides")


def _way_over(
    problem: Problem, settings: PlanSettings, stack: Sequence[Layer], robot: Robot | None = None
) -> FloatArray:
    """Plan again over another stack of layers, or with another body; return the poses, none if there is no way."""
    zones = [zone for layer in stack if isinstance(layer, ZoneLayer) for zone in layer.zones]
    grid = problem.costmap.grid
    body = robot or problem.robot
    costmap = price_stack(grid, body, stack, one_way_headings(grid, zones))
    changed = replace(problem, costmap=costmap, robot=body)
    return a_star(changed, settings, np.random.default_rng(0)).poses


def _told(problem: Problem, change: Change, way: FloatArray) -> WhyNot:
    """Blame what was taken away, now that there is a way."""
    if change.cause == "unknown":
        # Where the way that unknown floor closes would enter it.
        unknown = problem.costmap.grid.values_at(way[:, :2], problem.costmap.grid.unknown, False)
        place = way[int(np.argmax(unknown)), :2] if np.any(unknown) else way[len(way) // 2, :2]
        return WhyNot(
            "unknown",
            f"every way leads over or beside unknown floor, first at {place[0]:.2f}, {place[1]:.2f}",
            f'drive there to map it; with costs.unknown = "free" {_opened()}',
            (float(place[0]), float(place[1])),
        )
    return WhyNot(
        change.cause,
        f"{change.what} across every way from start to goal",
        f"without {'them' if change.many else 'it'} {_opened()}",
        change.place,
    )


def _opened() -> str:
    return "there is a way (planned again to see)"


def _too_narrow(problem: Problem, settings: PlanSettings, narrow: Bottleneck) -> WhyNot | None:
    """Blame a narrow place, if a body that fits it finds a way."""
    robot, cell = problem.robot, problem.costmap.grid.cell_size
    fits = narrow.clearance - cell / 2.0
    if fits <= 0.0:
        return None
    # Straight through it, the body is as wide as it is across.
    needed = float(np.ptp(robot.body.polygon[:, 1]))
    # What just fits must be met exactly; a way is found on a grid, and smoothed.
    for share in WIDTHS_TRIED:
        scale = share * 2.0 * fits / needed
        if scale >= 1.0:
            return None
        outline = [(float(x) * scale, float(y) * scale) for x, y in robot.body.polygon]
        smaller = robot.model_copy(update={"body": type(robot.body)(outline=outline, radius=None)})
        if len(_way_over(problem, settings, problem.costmap.stack, smaller)):
            break
    else:
        return None
    x, y, width = narrow.x, narrow.y, narrow.width
    short = max(needed - width, 0.0)
    what = f"{100.0 * short:.0f} cm too narrow" if short >= 0.005 else "wide enough only without a cell to spare"
    return WhyNot(
        "narrow",
        f"the widest way from start to goal is {width:.2f} m wide at {x:.2f}, {y:.2f}, {what}: {robot.name} needs "
        f"{needed:.2f} m and a cell of {cell:g} m to spare",
        f"a body {2.0 * share * fits:.2f} m wide would fit (planned again to see)",
        (x, y),
        width,
        needed + cell,
    )


def _kind(costmap: CostMap, name: str, cell: tuple[int, int]) -> str:
    if name == "map":
        return "occupied" if costmap.grid.occupied[cell] else "unknown"
    return {"zones": "zone", "obstacles": "obstacle"}.get(name, "layer")


def _nearest_open(costmap: CostMap, robot: Robot, pose: FloatArray) -> FloatArray | None:
    """Return the pose nearest to one, at its heading, at which the body fits; else at any heading."""
    cells = np.argwhere(np.isfinite(costmap.prices))
    if len(cells) == 0:
        return None
    points = costmap.grid.points_of(cells)
    order = np.argsort(np.hypot(*(points - pose[:2]).T), kind="stable")
    for begin in range(0, min(len(order), 40_000), 2000):
        some = points[order[begin : begin + 2000]]
        poses = np.column_stack([some, np.full(len(some), pose[2])])
        clear = np.flatnonzero(body_touches(costmap, robot, poses)[:, 0] < 0)
        if len(clear):
            return np.asarray(poses[clear[0]])
    return None
