"""A local plan: all that was considered, what was shut out and why, and what was chosen."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import LineCollection
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D
from matplotlib.patches import Circle, Patch

from vinecompass.figures.canvas import (
    CHARCOAL,
    CORAL,
    GREY,
    PAPER,
    RUST,
    SAFFRON,
    SLATE,
    STRAW,
    TEAL,
    add_side_axes,
    draw_grid,
    draw_robot,
    new_sheet,
    write_side,
)
from vinecompass.following import Considered
from vinecompass.geometry import transform_points
from vinecompass.grids import Grid
from vinecompass.navigation import Scene
from vinecompass.robot import Robot

__all__ = ["draw_local_plan"]

DRAWN_ABOUT = 3.5
"""Metres about the robot that are drawn."""


def draw_local_plan(grid: Grid, robot: Robot, scene: Scene, *, ax: Axes | None = None) -> FigureBase:
    """Draw one cycle of local planning: candidates, the chosen one, the plan, people, and the velocities tried."""
    local = scene.local_plan
    considered = local.considered
    said = local.reason or "nothing limits it"
    speed, turn_rate = local.command.speed, local.command.turn_rate
    title = f"{scene.t:.1f} s, {local.phase}: {speed:.2f} m/s and {turn_rate:.2f} rad/s, {said}"
    figure, axes = new_sheet(title[:100], ax=ax)
    legend: list[Line2D | Patch] = [draw_grid(axes, grid)[0]]
    x, y = scene.pose[:2]
    axes.plot(scene.plan[:, 0], scene.plan[:, 1], color=TEAL, linewidth=3.0, zorder=4)
    legend.append(Line2D([], [], color=TEAL, linewidth=3.0, label="global plan"))
    if len(scene.obstacles):
        axes.plot(*scene.obstacles.T, linestyle="", marker="s", markersize=3, color=SLATE, zorder=5)
        legend.append(Line2D([], [], linestyle="", marker="s", markersize=4, color=SLATE, label="seen, not in the map"))
    numbers = [("candidates", "none: it " + ("turns" if local.phase in ("turning", "aligning") else "closes in"))]
    if considered is not None:
        legend += _draw_candidates(axes, considered)
        numbers = _numbers(considered)
        if len(considered.velocities):
            _draw_window(add_side_axes(figure, 0.085, 0.2, xlabel="turn rate, rad/s", ylabel="speed, m/s"), considered)
    if len(local.poses):
        axes.plot(local.poses[:, 0], local.poses[:, 1], color=SAFFRON, linewidth=3.0, zorder=7)
        legend.append(Line2D([], [], color=SAFFRON, linewidth=3.0, label="local plan"))
        outline = transform_points(local.poses[-1], robot.body.polygon)
        axes.plot(*np.vstack([outline, outline[:1]]).T, color=SAFFRON, linewidth=1.0, zorder=7)
    legend += _draw_people(axes, scene)
    legend.append(draw_robot(axes, robot, scene.pose))
    axes.set_xlim(x - 1.25 * DRAWN_ABOUT, x + 1.25 * DRAWN_ABOUT)
    axes.set_ylim(y - DRAWN_ABOUT, y + DRAWN_ABOUT)
    write_side(figure, legend, numbers)
    return figure


def _draw_people(axes: Axes, scene: Scene) -> list[Line2D]:
    """Draw people as discs with a whisker as long as what they walk in a second. Returns the legend."""
    for person in scene.people:
        axes.add_patch(Circle((person.x, person.y), person.radius, facecolor=CORAL, edgecolor="white", zorder=8))
        axes.plot(
            [person.x, person.x + person.velocity_x],
            [person.y, person.y + person.velocity_y],
            color=CORAL,
            linewidth=2.0,
            zorder=8,
        )
    for encounter in scene.local_plan.encounters:
        axes.annotate(
            f"{encounter.state}\n{encounter.relation}",
            (encounter.person.x, encounter.person.y),
            xytext=(-40, 24),
            textcoords="offset points",
            fontsize=8,
            color=CHARCOAL,
            zorder=10,
            annotation_clip=True,
            bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 1.0, "alpha": 0.8},
        )
    if not scene.people:
        return []
    return [Line2D([], [], marker="o", color=CORAL, linewidth=2.0, markersize=9, label="person, and a second's walk")]


def _draw_candidates(axes: Axes, considered: Considered) -> list[Line2D]:
    shut = considered.shut_by > 0
    legend = []
    for flag, colour, label in ((False, GREY, "candidates"), (True, STRAW, "shut out")):
        paths = considered.paths[shut == flag][:, :, :2]
        if len(paths):
            axes.add_collection(LineCollection(list(paths), colors=colour, linewidths=0.5, alpha=0.7, zorder=3 - flag))
            legend.append(Line2D([], [], color=colour, linewidth=1.5, label=f"{label} ({len(paths)})"))
    return legend


def _numbers(considered: Considered) -> list[tuple[str, str]]:
    """Return what the chosen candidate is charged, term by term, and why others are shut out."""
    numbers = []
    if considered.chosen >= 0:
        numbers = [(name, f"{values[considered.chosen]:.2f} s") for name, values in considered.terms.items()]
        numbers.append(("sum", f"{considered.cost[considered.chosen]:.2f} s"))
    return numbers + [(reason[:34], f"{count}") for reason, count in considered.counts.items()]


def _draw_window(axes: Axes, considered: Considered) -> None:
    """Draw the velocities tried: shut out hollow, the others by cost, the chosen one marked."""
    speeds, turn_rates = considered.velocities[:, 0], considered.velocities[:, 2]
    open_ones = np.isfinite(considered.cost)
    axes.scatter(turn_rates[~open_ones], speeds[~open_ones], s=5, facecolors="none", edgecolors=RUST, linewidths=0.4)
    if np.any(open_ones):
        cost = considered.cost[open_ones]
        shade = (cost - cost.min()) / max(float(np.ptp(cost)), 1e-9)
        axes.scatter(turn_rates[open_ones], speeds[open_ones], s=6, c=1.0 - shade, cmap="Greys", vmin=0.0, vmax=1.2)
    if considered.chosen >= 0:
        axes.plot(turn_rates[considered.chosen], speeds[considered.chosen], marker="o", color=SAFFRON, markersize=7)
    axes.set_title("darker: cheaper; rings: shut out", fontsize=8.5, loc="left")
