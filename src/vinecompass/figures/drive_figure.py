"""A mission driven: what was planned, what was believed, what was true."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D
from matplotlib.patches import Patch

from vinecompass.figures.canvas import (
    CHARCOAL,
    CORAL,
    GREY,
    PAPER,
    RUST,
    SLATE,
    STRAW,
    TEAL,
    add_side_axes,
    draw_grid,
    draw_robot,
    draw_truth,
    draw_zones,
    new_sheet,
    write_side,
)
from vinecompass.grids import Grid, Zone
from vinecompass.rehearsal import Rehearsal

__all__ = ["draw_drive"]

SHADED = {"recovering": RUST, "stale": GREY, "dwelling": STRAW, "finding itself": SLATE}
"""States that are shaded in the curve of speed; driving is not."""


def draw_drive(grid: Grid, rehearsal: Rehearsal, zones: Sequence[Zone] = (), *, ax: Axes | None = None) -> FigureBase:
    """Draw a mission: its stops, every plan, the estimate, the truth, where safety stepped in, and its speed.

    The zones that it kept to are drawn where they are given.
    """
    run, truth = rehearsal.run, rehearsal.run.truth
    assert truth is not None
    figure, axes = new_sheet(_title(rehearsal), ax=ax)
    legend: list[Line2D | Patch] = list(draw_grid(axes, grid))
    legend += draw_zones(axes, zones)
    for number, (_, poses) in enumerate(rehearsal.plans):
        last = number == len(rehearsal.plans) - 1
        axes.plot(
            poses[:, 0], poses[:, 1], color=TEAL, linewidth=3.0 if last else 1.0, alpha=0.9 if last else 0.5, zorder=5
        )
    legend.append(Line2D([], [], color=TEAL, linewidth=3.0, label="last plan (earlier ones thin)"))
    axes.plot(rehearsal.track.poses[:, 0], rehearsal.track.poses[:, 1], color=SLATE, linewidth=1.4, zorder=6)
    legend.append(Line2D([], [], color=SLATE, linewidth=1.4, label="estimate"))
    legend.append(draw_truth(axes, truth.poses))
    legend.append(draw_robot(axes, run.robot, truth.poses[-1], label="robot at the end"))
    legend += _draw_interventions(axes, rehearsal)
    legend.append(_draw_stops(axes, rehearsal))
    legend += _draw_speed(add_side_axes(figure, 0.09, 0.15, xlabel="time, s", ylabel="speed, m/s"), rehearsal)
    write_side(figure, legend, _numbers(rehearsal))
    return figure


def _title(rehearsal: Rehearsal) -> str:
    truth, reached = rehearsal.run.truth, sum(each.reached for each in rehearsal.arrivals)
    assert truth is not None
    if not rehearsal.arrived:
        return f"{reached} of {max(len(rehearsal.log.stops), 1)} stops reached: {rehearsal.reason}"[:104]
    where = f"All {reached} stops reached" if reached > 1 else "Arrived"
    return (
        f"{where} after {truth.t[-1]:.0f} s: {rehearsal.position_error:.3f} m and "
        f"{np.degrees(rehearsal.heading_error):.1f} degrees off by the truth" + (" at most" if reached > 1 else "")
    )


def _draw_interventions(axes: Axes, rehearsal: Rehearsal) -> list[Line2D]:
    """Mark where safety changed a command."""
    begins = [each.begin for each in rehearsal.log.interventions]
    if not begins:
        return []
    places = rehearsal.track.at(begins)
    axes.plot(*places[:, :2].T, linestyle="", marker="v", color=CORAL, markersize=7, markeredgecolor="white", zorder=9)
    return [Line2D([], [], linestyle="", marker="v", color=CORAL, markersize=7, label="safety stepped in")]


def _draw_stops(axes: Axes, rehearsal: Rehearsal) -> Line2D:
    for number, stop in enumerate(rehearsal.log.stops, 1):
        reached = stop.status == "reached"
        axes.plot(
            *stop.goal[:2],
            marker="*",
            color=RUST if reached else PAPER,
            markersize=14,
            markeredgecolor="white" if reached else RUST,
            zorder=7,
        )
        axes.annotate(
            f"{number} {stop.name}" + ("" if reached else " (not reached)"),
            (stop.goal[0], stop.goal[1]),
            xytext=(8, 8),
            textcoords="offset points",
            fontsize=9,
            color=CHARCOAL,
            zorder=10,
            bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 1.0, "alpha": 0.8},
        )
    return Line2D([], [], marker="*", color=RUST, linestyle="", markersize=11, label="stop (hollow: not reached)")


def _numbers(rehearsal: Rehearsal) -> list[tuple[str, str]]:
    speeding, braking, turning = rehearsal.largest_accelerations()
    drive, truth = rehearsal.run.robot.drive, rehearsal.run.truth
    assert truth is not None
    return [
        ("way", f"{truth.length:.1f} m"),
        ("plans", f"{len(rehearsal.plans)}"),
        ("contacts", f"{rehearsal.contacts}"),
        ("interventions of safety", f"{len(rehearsal.log.interventions)}"),
        ("top speed", f"{np.abs(rehearsal.velocities[:, 0]).max():.2f} of {drive.top_speed:g} m/s"),
        ("top turn rate", f"{np.abs(rehearsal.velocities[:, 2]).max():.2f} of {drive.top_turn_rate:g} rad/s"),
        ("speeding up", f"{speeding:.2f} of {drive.acceleration:g} m/s2"),
        ("braking", f"{braking:.2f} of {drive.braking:g} m/s2"),
        ("turning", f"{turning:.2f} of {drive.turn_acceleration:g} rad/s2"),
    ]


def _draw_speed(axes: Axes, rehearsal: Rehearsal) -> list[Patch]:
    """Draw true and commanded speed over time, and shade the states in which it does not simply drive."""
    run, truth = rehearsal.run, rehearsal.run.truth
    assert run.commands is not None and truth is not None
    states, end = rehearsal.log.states, float(truth.t[-1])
    shaded: dict[str, Patch] = {}
    for entry, until in zip(states, [each.t for each in states[1:]] + [end], strict=True):
        if entry.state in SHADED:
            axes.axvspan(entry.t, until, color=SHADED[entry.state], alpha=0.3, linewidth=0.0)
            shaded[entry.state] = Patch(color=SHADED[entry.state], alpha=0.3, linewidth=0.0, label=entry.state)
    axes.plot(truth.t[1:], rehearsal.velocities[:, 0], color="black", linewidth=1.0)
    axes.step(run.commands.t, run.commands.speed, color=RUST, linewidth=0.8, where="post")
    axes.axhline(run.robot.drive.top_speed, color=GREY, linewidth=0.8, linestyle=":")
    axes.set_title("true (black), commanded, limit", fontsize=9, loc="left")
    return list(shaded.values())
