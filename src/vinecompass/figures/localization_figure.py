"""A run localized: the track on the map, the particle cloud as it shrinks, and the error over time."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import LineCollection
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from numpy.typing import NDArray

from vinecompass.figures.canvas import (
    OLIVE,
    SLATE,
    TEAL,
    add_side_axes,
    draw_grid,
    draw_robot,
    draw_truth,
    new_sheet,
    write_side,
)  # fmt: skip
from vinecompass.geometry import distance_along, transform_points
from vinecompass.grids import Grid
from vinecompass.localization import Localization
from vinecompass.odometry import deskewed_hits
from vinecompass.runs import Run, compare_tracks

__all__ = ["draw_localization"]

TICK = 0.35
"""Length of a particle's tick, m."""


def draw_localization(grid: Grid, run: Run, localization: Localization) -> Figure:
    """Draw where a run was localized, its first particles and later clouds, and its last scan laid on the map."""
    track, settled_at = localization.track, localization.settled_at
    error = None if run.truth is None else compare_tracks(track, run.truth)
    if settled_at is None:
        title = f"Not localized: the particles never drew together in {track.length:.0f} m"
    elif error is None:
        title = f"Settled after {localization.settled_after:.1f} m; last spread {localization.spreads[-1, 0]:.3f} m"
    else:
        after = error.since(track.t[settled_at])
        title = (
            f"Settled after {localization.settled_after:.1f} m, then {after.position_rmse:.3f} m and "
            f"{np.degrees(after.heading_rmse):.2f} degrees off (RMSE)"
        )
    figure, axes = new_sheet(title)
    legend: list = list(draw_grid(axes, grid))
    for number, (_, particles) in enumerate(localization.clouds):
        _draw_particles(axes, particles, faint=number == 0)
    legend.append(Line2D([], [], color=OLIVE, linewidth=1.2, label="particles, at the start and on the way"))
    axes.plot(track.poses[:, 0], track.poses[:, 1], color=TEAL, linewidth=1.4, zorder=6)
    legend.append(Line2D([], [], color=TEAL, linewidth=1.4, label="estimate"))
    if run.truth is not None:
        legend.append(draw_truth(axes, run.truth.poses))
    points = deskewed_hits(run.need_scans().ranges[-1], run.robot.scanner, np.zeros((run.robot.scanner.beams, 3)))
    points = transform_points(track.poses[-1], points)
    axes.scatter(points[:, 0], points[:, 1], s=3.0, color=SLATE, linewidths=0.0, zorder=5)
    legend.append(Line2D([], [], color=SLATE, marker=".", linestyle="", label="last scan"))
    legend.append(draw_robot(axes, run.robot, track.poses[-1]))
    numbers = [
        ("duration", f"{track.t[-1] - track.t[0]:.0f} s"),
        ("way", f"{track.length:.1f} m"),
        ("mean agreement", f"{np.nanmean(localization.agreements):.3f}"),
    ]
    if error is not None and settled_at is not None:
        after = error.since(track.t[settled_at])
        numbers.append(("largest position error", f"{after.position.max():.3f} m"))
        numbers.append(("largest heading error", f"{np.degrees(np.abs(after.heading).max()):.2f} deg"))
    write_side(figure, legend, numbers)
    travelled = distance_along(track.poses)
    for bottom, spread, unit, values in (
        (0.27, localization.spreads[:, 0], "position, m", None if error is None else error.position),
        (0.075, np.degrees(localization.spreads[:, 1]), "heading, deg",
         None if error is None else np.abs(np.degrees(error.heading))),
    ):  # fmt: skip
        side = add_side_axes(figure, bottom, 0.14, xlabel="way, m" if bottom < 0.2 else "", ylabel=unit)
        side.fill_between(travelled, 2.0 * spread, color=OLIVE, alpha=0.35, linewidth=0.0)
        if values is not None:
            side.plot(travelled, values, color="black", linewidth=0.8)
        tall = values if values is not None else 2.0 * spread
        late = slice(settled_at or 0, None)
        side.set_ylim(0.0, 1.3 * max(float(np.max(tall[late])), float(np.max(2.0 * spread[late])), 1e-3))
        if bottom > 0.2:
            side.set_title("error (line) and 2 sigma (band)", fontsize=9, loc="left")
    return figure


def _draw_particles(axes: Axes, particles: NDArray[np.float64], *, faint: bool) -> None:
    shown = particles[:: max(len(particles) // 400, 1)]
    ends = shown[:, :2] + TICK * np.stack([np.cos(shown[:, 2]), np.sin(shown[:, 2])], axis=-1)
    ticks = np.stack([shown[:, :2], ends], axis=1)
    axes.add_collection(
        LineCollection(list(ticks), colors=OLIVE, linewidths=0.8, alpha=0.4 if faint else 1.0, zorder=4 if faint else 7)
    )  # fmt: skip
