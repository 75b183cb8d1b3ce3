"""A plan on the priced floor."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from matplotlib.patches import Polygon
from numpy.typing import NDArray

from vinecompass.costs import CostMap
from vinecompass.figures.canvas import GREY, RUST, TEAL, draw_robot, new_sheet, write_side
from vinecompass.figures.cost_figure import draw_prices
from vinecompass.geometry import transform_points
from vinecompass.planning import Plan
from vinecompass.robot import Robot

__all__ = ["draw_plan"]


def draw_plan(
    costmap: CostMap, robot: Robot, plan: Plan, start: NDArray[np.float64], goal: NDArray[np.float64]
) -> Figure:
    """Draw a plan with the body along it; without a plan, start and goal and the reason."""
    if plan.found:
        title = f"{plan.length:.1f} m to the goal, costing {plan.cost:.1f} m; {plan.least_clearance:.2f} m to spare"
    else:
        title = f"No plan: {plan.status}"
    figure, axes = new_sheet(title)
    legend: list = list(draw_prices(axes, costmap))
    for pose in plan.poses[:: max(len(plan.poses) // 60, 1)]:
        outline = transform_points(pose, robot.body.polygon)
        axes.add_patch(Polygon(outline, closed=True, fill=False, edgecolor=GREY, linewidth=0.5, zorder=5))
    if plan.found:
        axes.plot(plan.poses[:, 0], plan.poses[:, 1], color=TEAL, linewidth=3.0, zorder=6, solid_capstyle="round")
        legend.append(Line2D([], [], color=TEAL, linewidth=3.0, label="global plan"))
        legend.append(Line2D([], [], color=GREY, linewidth=0.8, label="the body along it"))
    legend.append(draw_robot(axes, robot, start, label="start"))
    axes.plot(*goal[:2], marker="*", color=RUST, markersize=15, markeredgecolor="white", zorder=9)
    legend.append(Line2D([], [], marker="*", color=RUST, linestyle="", markersize=11, label="goal"))
    numbers = [("cells expanded", f"{plan.expanded}")]
    if plan.found:
        numbers = [
            ("length", f"{plan.length:.2f} m"),
            ("cost", f"{plan.cost:.2f} m"),
            ("least clearance of the body", f"{plan.least_clearance:.2f} m"),
            *numbers,
        ]
    write_side(figure, legend, numbers)
    if not plan.found:
        figure.text(0.05, 0.03, plan.reason, fontsize=11, color=RUST)
    return figure
