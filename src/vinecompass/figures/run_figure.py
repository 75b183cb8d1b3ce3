"""A run at a glance: where it went, what the odometry makes of it, and one scan."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import LineCollection
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D

from vinecompass.errors import InputError
from vinecompass.figures.canvas import (
    AUBERGINE,
    GREY,
    RUST,
    SLATE,
    add_side_axes,
    draw_robot,
    draw_scale_bar,
    draw_truth,
    new_sheet,
    write_side,
)
from vinecompass.geometry import compose, transform_points
from vinecompass.odometry import deskewed_hits, odometry_track
from vinecompass.runs import Run, compare_tracks
from vinecompass.simulation import parse_site

__all__ = ["draw_run"]


def draw_run(run: Run, *, ax: Axes | None = None) -> FigureBase:
    """Draw a run: its odometry beside the truth, the site if it was simulated, and one scan about the robot."""
    scans, middle = run.need_scans(), len(run.need_scans()) // 2
    try:
        odometry = odometry_track(run)
    except InputError:
        odometry = None
    title = f"{len(scans)} scans in {scans.t[-1] - scans.t[0]:.0f} s"
    drift = None
    if odometry is not None:
        odometry = type(odometry)(odometry.t, compose(run.start, odometry.poses))
        title = f"{odometry.length:.0f} m by the odometry, {title}"
        if run.truth is not None:
            drift = compare_tracks(odometry, run.truth)
            title = f"The odometry alone ends {drift.position[-1]:.1f} m off after {run.truth.length:.0f} m"
    figure, axes = new_sheet(title, ax=ax)
    legend: list[Line2D] = []
    if run.site_toml is not None:
        segments = parse_site(run.site_toml).segments.reshape(-1, 2, 2)
        axes.add_collection(LineCollection(list(segments), colors=AUBERGINE, linewidths=1.6))
        legend.append(Line2D([], [], color=AUBERGINE, linewidth=1.6, label="walls and solids"))
    if run.truth is not None:
        legend.append(draw_truth(axes, run.truth.poses))
    if odometry is not None:
        axes.plot(odometry.poses[:, 0], odometry.poses[:, 1], color=RUST, linewidth=1.6)
        legend.append(Line2D([], [], color=RUST, linewidth=1.6, label="odometry"))
    axes.autoscale_view()
    draw_scale_bar(axes)
    legend.append(draw_robot(axes, run.robot, run.start, label=f"{run.robot.name} at the start"))
    ranges = scans.ranges
    returned = np.isfinite(ranges)
    numbers = [
        ("duration", f"{scans.t[-1] - scans.t[0]:.1f} s"),
        ("scans", f"{len(scans)} of {ranges.shape[1]} beams"),
        ("beams that return", f"{100.0 * np.mean(returned):.1f} %"),
        ("nothing within reach", f"{100.0 * np.mean(np.isposinf(ranges)):.1f} %"),
        ("no reading", f"{100.0 * np.mean(np.isnan(ranges)):.1f} %"),
    ]
    if drift is not None:
        numbers.append(("odometry's heading error", f"{np.degrees(drift.heading[-1]):.1f} deg"))
    write_side(figure, legend, numbers)
    scan_axes = add_side_axes(figure, 0.07, 0.34, xlabel="ahead, m", ylabel="to the left, m")
    scan_axes.set_aspect("equal", adjustable="datalim")
    points = deskewed_hits(ranges[middle], run.robot.scanner, np.zeros((run.robot.scanner.beams, 3)))
    scan_axes.scatter(points[:, 0], points[:, 1], s=3.0, color=SLATE, linewidths=0.0)
    draw_robot(scan_axes, run.robot, np.zeros(3))
    reach = transform_points(run.robot.scanner.mount_pose, np.zeros((1, 2)))
    scan_axes.plot(*reach.T, marker="+", color=GREY)
    scan_axes.set_title(f"the scan at {scans.t[middle]:.1f} s", fontsize=10, loc="left")
    return figure
