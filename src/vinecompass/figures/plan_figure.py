"""A plan on the priced floor, and several planners side by side."""

from __future__ import annotations

import textwrap
from collections.abc import Sequence
from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import LineCollection
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D
from matplotlib.patches import Polygon
from numpy.typing import NDArray

from vinecompass.costs import CostMap
from vinecompass.figures.canvas import (
    BURGUNDY,
    CHARCOAL,
    OLIVE,
    PAPER,
    RUST,
    SAFFRON,
    SIDE,
    SLATE,
    TEAL,
    draw_robot,
    new_sheet,
    write_side,
)
from vinecompass.figures.cost_figure import draw_prices
from vinecompass.geometry import transform_points
from vinecompass.planning import Plan, PlannerComparison
from vinecompass.robot import Robot

__all__ = ["draw_plan", "draw_plan_comparison"]

PATH_STYLES: list[tuple[str, Any]] = [
    (TEAL, "-"),
    (SLATE, "--"),
    (SAFFRON, "-"),
    (BURGUNDY, ":"),
    (OLIVE, "-."),
    (CHARCOAL, "--"),
    (RUST, "-."),
    (SLATE, ":"),
    (TEAL, (0, (5, 1, 1, 1))),
]
MOST_EDGES = 6000


def draw_plan(
    costmap: CostMap,
    robot: Robot,
    legs: Sequence[Plan],
    poses: Sequence[NDArray[np.float64]],
    *,
    ax: Axes | None = None,
) -> FigureBase:
    """Draw a plan, leg by leg, with the body along it and where the planner looked; without one, what is in the way."""
    last = legs[-1]
    length, cost = sum(leg.length for leg in legs), sum(leg.cost for leg in legs)
    least = min(leg.least_clearance for leg in legs)
    if last.found:
        title = f"{length:.1f} m to the goal, costing {cost:.1f} m; {least:.2f} m to spare"
    else:
        title = f"No plan: {last.status}" + _finding(last)
    figure, axes = new_sheet(title, ax=ax)
    legend: list = list(draw_prices(axes, costmap))
    legend += _draw_search(axes, last)
    for leg in legs:
        for pose in leg.poses[:: max(len(leg.poses) // 60, 1)]:
            outline = transform_points(pose, robot.body.polygon)
            axes.add_patch(Polygon(outline, closed=True, fill=False, edgecolor=CHARCOAL, linewidth=0.4, zorder=5))
        axes.plot(leg.poses[:, 0], leg.poses[:, 1], color=TEAL, linewidth=3.0, zorder=6, solid_capstyle="round")
    if last.found:
        legend.append(Line2D([], [], color=TEAL, linewidth=3.0, label="global plan"))
        legend.append(Line2D([], [], color=CHARCOAL, linewidth=0.6, label="the body along it"))
    legend.append(draw_robot(axes, robot, poses[0], label="start"))
    for pose in poses[1:-1]:
        axes.plot(*pose[:2], marker="D", color=SAFFRON, markersize=8, markeredgecolor="white", zorder=9)
    if len(poses) > 2:
        legend.append(Line2D([], [], marker="D", color=SAFFRON, linestyle="", markersize=8, label="on the way"))
    axes.plot(*poses[-1][:2], marker="*", color=RUST, markersize=15, markeredgecolor="white", zorder=9)
    legend.append(Line2D([], [], marker="*", color=RUST, linestyle="", markersize=11, label="goal"))
    if last.why_not is not None:
        legend += _draw_why_not(axes, last)
    numbers = [("planner", last.method), ("cells or nodes expanded", f"{sum(leg.expanded for leg in legs)}")]
    if last.found:
        numbers = [
            ("length", f"{length:.2f} m"),
            ("cost", f"{cost:.2f} m"),
            ("least clearance of the body", f"{least:.2f} m"),
            ("changes of direction", f"{sum(leg.reversals for leg in legs)}"),
            *numbers,
        ]
    write_side(figure, legend, numbers)
    if last.why_not is not None:
        figure.text(
            SIDE + 0.005, 0.36, textwrap.fill(last.reason, 40), fontsize=10, color=BURGUNDY, va="top", linespacing=1.35
        )
    return figure


def _finding(plan: Plan) -> str:
    """Return the finding, with its number where it has one, for the title."""
    why = plan.why_not
    if why is None or plan.status == "gave up":
        return f" after {plan.iterations} iterations"
    if why.width is not None and why.needed is not None:
        return f", {why.width:.2f} m wide where {why.needed:.2f} m are needed"
    return f" ({why.cause})"


def _draw_search(axes: Axes, plan: Plan) -> list[Line2D]:
    """Draw the cells looked at, or the tree grown. Returns the legend."""
    if len(plan.tree):
        edges = plan.tree[:: max(len(plan.tree) // MOST_EDGES, 1)]
        axes.add_collection(LineCollection(list(edges), colors=SLATE, linewidths=0.4, alpha=0.5, zorder=3))
        return [Line2D([], [], color=SLATE, linewidth=0.8, label="tree or roadmap")]
    if len(plan.explored):
        axes.plot(*plan.explored.T, ".", color=SLATE, markersize=1.2, alpha=0.35, markeredgewidth=0.0, zorder=3)
        return [Line2D([], [], color=SLATE, marker=".", linestyle="", label="where it looked")]
    return []


def _draw_why_not(axes: Axes, plan: Plan) -> list[Line2D]:
    """Mark the place that closes the way, and the nearest pose that is open. Returns the legend."""
    why, legend = plan.why_not, []
    assert why is not None
    if why.place is not None:
        axes.plot(*why.place, marker="X", color=BURGUNDY, markersize=15, markeredgecolor="white", zorder=10)
        label = why.cause if why.width is None else f"{why.width:.2f} m wide, {why.needed:.2f} m needed"
        axes.annotate(
            label,
            why.place,
            xytext=(12, 10),
            textcoords="offset points",
            fontsize=10,
            color=BURGUNDY,
            zorder=10,
            bbox={"facecolor": PAPER, "edgecolor": BURGUNDY, "pad": 2.0},
        )
        legend.append(
            Line2D([], [], marker="X", color=BURGUNDY, linestyle="", markersize=11, label="what is in the way")
        )
    if why.nearest is not None:
        axes.plot(*why.nearest[:2], marker="P", color=OLIVE, markersize=12, markeredgecolor="white", zorder=10)
        legend.append(Line2D([], [], marker="P", color=OLIVE, linestyle="", markersize=10, label="nearest open pose"))
    return legend


def draw_plan_comparison(found: PlannerComparison, *, ax: Axes | None = None) -> FigureBase:
    """Draw the path of each planner, its tree behind it, and a table of how they did."""
    best = found.cheapest
    if best is None:
        title = f"None of {len(found.rows)} planners found a way"
    else:
        title = f"{best.entry.label} plans cheapest, {best.median('cost'):.1f} m, in {1000.0 * best.time:.0f} ms"
    figure, axes = new_sheet(title, ax=ax)
    draw_prices(axes, found.problem.costmap)
    legend: list = []
    for number, row in enumerate(found.rows):
        colour, style = PATH_STYLES[number % len(PATH_STYLES)]
        plan = row.best
        if len(plan.tree):
            edges = plan.tree[:: max(len(plan.tree) // (MOST_EDGES // 3), 1)]
            axes.add_collection(LineCollection(list(edges), colors=colour, linewidths=0.35, alpha=0.35, zorder=3))
        if plan.found:
            axes.plot(*plan.poses[:, :2].T, color=colour, linestyle=style, linewidth=2.2, zorder=6)
        legend.append(Line2D([], [], color=colour, linestyle=style, linewidth=2.2, label=row.entry.label))
    legend.append(draw_robot(axes, found.problem.robot, found.problem.start_pose, label="start"))
    axes.plot(*found.problem.goal_pose[:2], marker="*", color=RUST, markersize=15, markeredgecolor="white", zorder=9)
    legend.append(Line2D([], [], marker="*", color=RUST, linestyle="", markersize=11, label="goal"))
    repeats = len(found.rows[0].plans)
    numbers = [(f"median cost of {repeats}", "found, time")]
    for row in found.rows:
        told = f"{row.median('cost'):.1f} m" if row.success else row.best.status
        numbers.append((f"{row.entry.label}: {told}", f"{100.0 * row.success:.0f} %, {row.time:.2f} s"))
    write_side(figure, legend, numbers)
    return figure
