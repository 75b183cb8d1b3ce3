"""From a start pose to a goal pose: A*, shortened, smoothed, and checked with the whole body."""

from __future__ import annotations

import time
from dataclasses import dataclass, replace
from itertools import pairwise
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray
from pydantic import Field

from vinecompass.costs import CostMap, body_clearance, body_touches
from vinecompass.errors import InputError
from vinecompass.files import Model, Positive, Whole
from vinecompass.geometry import distance_along, inverse, resample_polyline, transform_points, wrap_angle
from vinecompass.grids import clearance
from vinecompass.planning.bottleneck import find_bottleneck
from vinecompass.planning.grid_search import find_grid_path
from vinecompass.planning.kernels import line_price
from vinecompass.planning.smoothing import shorten, smooth
from vinecompass.robot import Robot

__all__ = ["Plan", "PlanSettings", "plan_path"]

FloatArray = NDArray[np.float64]
Status = Literal["found", "start closed", "goal closed", "no way"]


class PlanSettings(Model):
    """The ``[planning]`` table of the settings."""

    spacing: Positive = Field(0.1, description="distance between the poses of a plan, m")
    smoothing_rounds: Whole = Field(40, description="a whole number")
    body_retries: Whole = Field(40, description="how often to plan again around a place the body touches")


@dataclass(frozen=True)
class Plan:
    """A plan, or the reason why there is none.

    Parameters
    ----------
    status : {"found", "start closed", "goal closed", "no way"}
    reason : str
        Empty if found; else one sentence that says where and why.
    poses : array, (N, 3)
        From start to goal in the site frame; each heading points along the path, but the first is the start's and the
        last the goal's.
    cost : float
        Metres-equivalent.
    length : float
        Metres.
    least_clearance : float
        From the body's outline to the nearest forbidden cell, anywhere along the plan, m.
    expanded : int
        Cells whose neighbours the search looked at.
    duration : float
        Seconds of planning.
    """

    status: Status
    reason: str
    poses: FloatArray
    cost: float
    length: float
    least_clearance: float
    expanded: int
    duration: float

    @property
    def found(self) -> bool:
        """Whether there is a path."""
        return self.status == "found"


def plan_path(
    costmap: CostMap, robot: Robot, start: ArrayLike, goal: ArrayLike, *, settings: PlanSettings | None = None
) -> Plan:
    """Plan from a start to a goal for a robot that turns on the spot.

    The path is a cheapest one over the grid, shortened where a straight line is no dearer, and smoothed. Then the
    body's outline is checked at every pose against every forbidden cell; where it would touch, the origin is kept
    away from there and the search starts over, so that what is returned is clear for the whole body. Turning on
    the spot to the first heading and to the goal's is the follower's business, and is checked where it drives.

    Parameters
    ----------
    costmap : CostMap
    robot : Robot
    start, goal : array_like, (3,)
        In the site frame, m and radians.
    settings : PlanSettings, optional

    Returns
    -------
    Plan
        Whose `status` and `reason` say why, if there is no path.

    Raises
    ------
    InputError
        A pose is not finite or lies off the map.

    Examples
    --------
    >>> from vinecompass import Grid, demo_file, price_floor, read_robot
    >>> robot = read_robot(demo_file("robot.toml"))
    >>> costmap = price_floor(Grid(np.full((80, 120), -3.0, np.float32), cell_size=0.05), robot)
    >>> plan = plan_path(costmap, robot, [1.0, 2.0, 0.0], [5.0, 2.0, 0.0])
    >>> plan.status, round(plan.length, 2), round(plan.cost, 2)
    ('found', 4.0, 4.0)
    """
    begun = time.perf_counter()
    s = settings or PlanSettings()
    if robot.drive.kind == "car":
        raise InputError(
            "a car cannot turn on the spot", key="drive.kind", value="car", expected="differential or omni"
        )
    start_pose, goal_pose = _pose_on_map(costmap, "start", start), _pose_on_map(costmap, "goal", goal)
    cells = costmap.grid.cells_at(np.stack([start_pose[:2], goal_pose[:2]]))
    first, last = ((int(row), int(column)) for row, column in cells)

    def without_path(status: Status, reason: str, expanded: int = 0) -> Plan:
        nothing = float("nan")
        seconds = time.perf_counter() - begun
        return Plan(status, reason, np.zeros((0, 3)), nothing, nothing, nothing, expanded, seconds)

    ends: tuple[tuple[Status, FloatArray, tuple[int, int]], ...] = (
        ("start closed", start_pose, first), ("goal closed", goal_pose, last),
    )  # fmt: skip
    for status, pose, cell in ends:
        if np.isinf(costmap.prices[cell]) or body_touches(costmap, robot, pose)[0, 0] >= 0:
            return without_path(status, _why_closed(costmap, robot, status.split()[0], pose, cell))

    prices = costmap.prices.copy()
    expanded = 0
    for _ in range(s.body_retries):
        path = find_grid_path(prices, first, last)
        expanded += path.expanded
        if len(path.cells) == 0:
            return without_path("no way", _why_no_way(costmap, robot, first, last), expanded)
        points = _short_and_smooth(costmap, prices, path.cells, start_pose, goal_pose, s)
        poses = _with_headings(costmap, points, start_pose, goal_pose)
        touched = body_touches(costmap, robot, poses)
        bad = touched[:, 0] >= 0
        if not np.any(bad):
            cost = _cost_of(costmap, points)
            return Plan(
                "found", "", poses, cost, float(distance_along(poses)[-1]),
                float(body_clearance(costmap, robot, poses).min()), expanded, time.perf_counter() - begun,
            )  # fmt: skip
        _keep_away(prices, costmap, touched[bad], points[bad], (first, last))
    return without_path(
        "no way", f"{robot.name} touches something on every one of the {s.body_retries} ways tried", expanded
    )


def _pose_on_map(costmap: CostMap, key: str, pose: ArrayLike) -> FloatArray:
    value = np.asarray(pose, dtype=float)
    if value.shape != (3,) or not np.all(np.isfinite(value)):
        raise InputError("is not a pose", key=key, value=pose, expected="x, y, heading, all finite")
    if not costmap.grid.contains(costmap.grid.cells_at(value[None, :2]))[0]:
        raise InputError(
            "lies off the map", key=key, value=[round(float(v), 3) for v in value], expected="x, y on the map"
        )
    return value


def _short_and_smooth(
    costmap: CostMap, prices: NDArray[np.float32], cells: NDArray[np.int64], start: FloatArray, goal: FloatArray,
    settings: PlanSettings,
) -> FloatArray:  # fmt: skip
    """Return points ``(N, 2)`` in cells, column before row, evenly spaced, exactly from start to goal."""
    points = cells[:, ::-1].astype(float) + 0.5
    ends = transform_points(inverse(costmap.grid.frame), np.stack([start[:2], goal[:2]])) / costmap.grid.cell_size
    points = np.asarray(np.vstack([ends[:1], points[1:-1], ends[1:]]), dtype=float)
    corners = shorten(prices, points)
    # Leg by leg, so that the corners stay: a chord across one might meet a closed cell.
    spacing = settings.spacing / costmap.grid.cell_size
    legs = [resample_polyline(leg, spacing) for leg in pairwise(corners)]
    even = np.vstack([corners[:1], *(leg[1:] for leg in legs)])
    return smooth(prices, even, rounds=settings.smoothing_rounds)


def _with_headings(costmap: CostMap, points: FloatArray, start: FloatArray, goal: FloatArray) -> FloatArray:
    xy = transform_points(costmap.grid.frame, points * costmap.grid.cell_size)
    ahead = np.diff(xy, axis=0)
    headings = np.arctan2(ahead[:, 1], ahead[:, 0])
    if len(xy) == 1 or not np.any(ahead):
        headings = np.full(len(xy) - 1, start[2])
    # The robot is at the start as it stands: a way out is any along which the next pose is clear.
    headings[0] = start[2]
    return np.column_stack([xy, wrap_angle(np.append(headings, goal[2]))])


def _cost_of(costmap: CostMap, points: FloatArray) -> float:
    lines = pairwise(points)
    return costmap.grid.cell_size * float(sum(line_price(costmap.prices, *a, *b) for a, b in lines))


def _keep_away(
    prices: NDArray[np.float32], costmap: CostMap, touched: NDArray[np.int64], points: FloatArray,
    ends: tuple[tuple[int, int], tuple[int, int]],
) -> None:  # fmt: skip
    """Close the cells about the places where the body touched, out to a cell more than the origin was from there."""
    for cell, point in zip(touched, points, strict=True):
        reach = np.hypot(*(cell[::-1] + 0.5 - point)) + 0.5
        margin = int(np.ceil(reach))
        low = np.maximum(cell - margin, 0)
        block = tuple(slice(a, b + margin + 1) for a, b in zip(low, cell, strict=True))
        rows, columns = np.ogrid[block]
        prices[block][np.hypot(rows - cell[0], columns - cell[1]) <= reach] = np.inf
    for end in ends:
        prices[end] = costmap.prices[end]


def _why_closed(costmap: CostMap, robot: Robot, which: str, pose: FloatArray, cell: tuple[int, int]) -> str:
    charges = costmap.explain(*pose[:2])
    closing = [name for name, factor in charges.items() if np.isinf(factor)]
    if not closing:
        obstacle = body_touches(costmap, robot, pose)[0]
        x, y = costmap.grid.points_of(obstacle[None])[0]
        cause = f"the body at that heading touches something at {x:.2f}, {y:.2f}"
    elif closing == ["clearance"]:
        needed = robot.body.inner_radius + costmap.grid.cell_size / 2.0
        cause = f"the nearest closed floor is {costmap.clearance[cell]:.2f} m away and the body needs {needed:.2f} m"
    else:
        cause = f"closed by the layer {closing[0]!r}"
    open_points = np.argwhere(costmap.clearance > robot.body.outer_radius + costmap.grid.cell_size)
    nearest = ""
    if len(open_points):
        away = np.hypot(*(open_points - np.array(cell)).T)
        x, y = costmap.grid.points_of(open_points[[int(np.argmin(away))]])[0]
        nearest = f"; nearest place where it fits at any heading: {x:.2f}, {y:.2f}"
    return f"{which} {pose[0]:.2f}, {pose[1]:.2f}: {cause}{nearest}"


def _why_no_way(costmap: CostMap, robot: Robot, start: tuple[int, int], goal: tuple[int, int]) -> str:
    needed = 2.0 * robot.body.inner_radius
    narrowest = find_bottleneck(costmap, start, goal)
    if narrowest is not None:
        return (
            f"the widest way from start to goal is {narrowest.width:.2f} m wide at {narrowest.x:.2f}, "
            f"{narrowest.y:.2f}, and {robot.name} needs {needed:.2f} m and a cell to spare"
        )
    others = (factors for name, factors in costmap.layers.items() if name not in ("zones", "clearance"))
    zones_opened = np.any([np.isinf(factors) for factors in others], axis=0)
    opened = replace(costmap, clearance=clearance(zones_opened, costmap.grid.cell_size))
    if find_bottleneck(opened, start, goal) is not None:
        return "a closed zone lies across every way from start to goal"
    return "no floor known to be free joins start and goal"
