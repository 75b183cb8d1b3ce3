"""A mission driven: what was planned, what was believed, what was true."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from numpy.typing import NDArray

from vinecompass.figures.canvas import (
    GREY,
    RUST,
    SLATE,
    TEAL,
    add_side_axes,
    draw_grid,
    draw_robot,
    draw_truth,
    new_sheet,
    write_side,
)  # fmt: skip
from vinecompass.grids import Grid
from vinecompass.rehearsal import Rehearsal

__all__ = ["draw_drive"]


def draw_drive(grid: Grid, rehearsal: Rehearsal, goal: NDArray[np.float64]) -> Figure:
    """Draw a mission: every plan, the estimate, the truth, the robot at the end, and its speed over time."""
    run, truth = rehearsal.run, rehearsal.run.truth
    assert truth is not None
    if rehearsal.arrived:
        title = (
            f"Arrived after {truth.t[-1]:.0f} s: {rehearsal.position_error:.3f} m and "
            f"{np.degrees(rehearsal.heading_error):.1f} degrees off by the truth"
        )
    else:
        title = f"Not arrived: {rehearsal.reason}"[:100]
    figure, axes = new_sheet(title)
    legend: list = list(draw_grid(axes, grid))
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
    axes.plot(*goal[:2], marker="*", color=RUST, markersize=14, markeredgecolor="white", zorder=4)
    legend.append(Line2D([], [], marker="*", color=RUST, linestyle="", markersize=11, label="goal"))
    speeding, braking, turning = rehearsal.largest_accelerations()
    drive = run.robot.drive
    numbers = [
        ("way", f"{truth.length:.1f} m"),
        ("plans", f"{len(rehearsal.plans)}"),
        ("contacts", f"{rehearsal.contacts}"),
        ("top speed", f"{np.abs(rehearsal.velocities[:, 0]).max():.2f} of {drive.top_speed:g} m/s"),
        ("top turn rate", f"{np.abs(rehearsal.velocities[:, 1]).max():.2f} of {drive.top_turn_rate:g} rad/s"),
        ("speeding up", f"{speeding:.2f} of {drive.acceleration:g} m/s2"),
        ("braking", f"{braking:.2f} of {drive.braking:g} m/s2"),
        ("turning", f"{turning:.2f} of {drive.turn_acceleration:g} rad/s2"),
    ]
    write_side(figure, legend, numbers)
    side = add_side_axes(figure, 0.09, 0.2, xlabel="time, s", ylabel="speed, m/s")
    assert run.commands is not None
    side.plot(truth.t[1:], rehearsal.velocities[:, 0], color="black", linewidth=1.0)
    side.step(run.commands.t, run.commands.speed, color=RUST, linewidth=0.8, where="post")
    side.axhline(drive.top_speed, color=GREY, linewidth=0.8, linestyle=":")
    side.set_title("true (black), commanded, limit", fontsize=9, loc="left")
    return figure
