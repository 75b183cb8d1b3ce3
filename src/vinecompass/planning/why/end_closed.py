"""Why the body cannot stand at an end of the way, and where near it it could."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs import CostMap, body_touches
from vinecompass.planning.problem import Problem
from vinecompass.planning.why.reason import WhyNot
from vinecompass.planning.why.tried import nearest_fitting, nearest_within_reach
from vinecompass.settings import PlanSettings

__all__ = ["why_end_closed"]

FloatArray = NDArray[np.float64]


def why_end_closed(
    problem: Problem, which: str, pose: FloatArray, settings: PlanSettings | None = None
) -> WhyNot | None:
    """Tell why the body cannot stand at the "start" or the "goal", or None if it can.

    With `settings` the nearest pose is looked for, too, at which it can, and for a goal one to which there is a way.
    """
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
    nearest, remedy = None, ""
    if settings is not None:
        nearest = nearest_fitting(problem, pose) if which == "start" else nearest_within_reach(problem, settings, pose)
    if nearest is not None:
        there = "where it fits" if which == "start" else "tried that it can get to"
        degrees = np.degrees(nearest[2])
        remedy = f"the nearest pose {there} is {nearest[0]:.2f}, {nearest[1]:.2f}, {degrees:.0f} degrees"
    return WhyNot(cause, f"{which} {pose[0]:.2f}, {pose[1]:.2f}: {text}", remedy, (float(x), float(y)), nearest=nearest)


def _kind(costmap: CostMap, name: str, cell: tuple[int, int]) -> str:
    if name == "map":
        return "occupied" if costmap.grid.occupied[cell] else "unknown"
    return {"zones": "zone", "obstacles": "obstacle"}.get(name, "layer")
