"""A run localized: the track on the map, the cloud and the scan close by, and the error over the way."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import LineCollection
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D
from matplotlib.patches import Ellipse, Patch
from matplotlib.ticker import FixedLocator, NullLocator, StrMethodFormatter
from numpy.typing import NDArray

from vinecompass.figures.canvas import (
    CHARCOAL,
    GREY,
    OLIVE,
    RUST,
    SIDE,
    SLATE,
    TEAL,
    add_side_axes,
    draw_grid,
    draw_robot,
    draw_truth,
    new_sheet,
    write_side,
)
from vinecompass.geometry import chi_square_bound
from vinecompass.grids import Grid
from vinecompass.localization import Localization, Snapshot
from vinecompass.runs import Run, TrackError, compare_tracks

__all__ = ["draw_localization"]

FloatArray = NDArray[np.float64]
TICK = 0.12
"""Length of a particle's tick, m."""
MOST_DRAWN = 1500
VERDICT_COLOURS = (SLATE, RUST, RUST, GREY)
CLOSE = (1.6, 6.0)
"""Metres about the robot that a close view shows, at least and at most."""


def draw_localization(grid: Grid, run: Run, localization: Localization, *, ax: Axes | None = None) -> FigureBase:
    """Draw where a run was localized, three close views of cloud and scan, and the error with its 2-sigma band."""
    track, settled_at = localization.track, localization.settled_at
    error = None if run.truth is None else compare_tracks(track, run.truth)
    figure, axes = new_sheet(_title(localization, error), ax=ax)
    axes.set_position((0.05, 0.425, SIDE - 0.075, 0.49))
    legend: list[Line2D | Patch] = list(draw_grid(axes, grid))
    axes.plot(track.poses[:, 0], track.poses[:, 1], color=TEAL, linewidth=1.4, zorder=6)
    legend.append(Line2D([], [], color=TEAL, linewidth=1.4, label="estimate"))
    unsure = ~localization.tracked
    if np.any(unsure):
        x, y = track.poses[unsure, :2].T
        axes.scatter(x, y, s=14.0, color=RUST, marker="x", linewidths=1.0, zorder=7)
        legend.append(Line2D([], [], color=RUST, marker="x", linestyle="", label="estimate, not tracking"))
    if run.truth is not None:
        legend.append(draw_truth(axes, run.truth.poses))
    last = localization.snapshots[-1]
    _draw_scan(axes, last, size=1.5)
    legend.append(draw_robot(axes, run.robot, track.poses[-1]))
    legend += [
        Line2D([], [], color=OLIVE, marker=(2, 0, 0), linestyle="", label="particles, darker with weight"),
        Line2D([], [], color=OLIVE, linewidth=1.6, label="95 % ellipse"),
        Line2D([], [], color=SLATE, marker=".", linestyle="", label="scan where it agrees with the map"),
        Line2D([], [], color=RUST, marker=".", linestyle="", label="where it does not"),
    ]
    for number, (words, snapshot) in enumerate(_views(localization)):
        close = figure.add_axes((0.045 + 0.233 * number, 0.035, 0.2, 0.31))
        first = localization.first_particles if number == 0 else None
        _draw_close(close, grid, run, snapshot, first)
        close.set_title(f"{words}, {snapshot.estimate.t:.1f} s: {snapshot.estimate.state}", fontsize=9, loc="left")
    agreement = localization.mean_agreement
    numbers = [
        ("way", f"{localization.ways[-1]:.1f} m in {track.t[-1] - track.t[0]:.0f} s"),
        ("mean agreement", f"{agreement:.3f}" if np.isfinite(agreement) else "none"),
    ]
    if error is not None and settled_at is not None:
        inside = localization.inside_ellipse(run.truth)[localization.tracked]  # type: ignore[arg-type]
        numbers.append(("in the 95 % ellipse", f"{100.0 * inside.mean():.0f} %"))
        numbers.append(("largest error", f"{error.where(localization.tracked).position.max():.3f} m"))
    write_side(figure, legend, numbers)
    _draw_curves(figure, localization, None if error is None else (error.position, np.abs(np.degrees(error.heading))))
    return figure


def _title(localization: Localization, error: TrackError | None) -> str:
    if localization.settled_at is None:
        return f"Not localized in {localization.ways[-1]:.0f} m: {localization.changes[-1].reason}"[:115]
    after = f"Tracking after {localization.settled_after:.1f} m"
    if error is not None:
        told = error.where(localization.tracked)
        after += f", then {told.position_rmse:.3f} m and {np.degrees(told.heading_rmse):.2f} degrees off (RMSE)"
    else:
        after += f"; last spread {localization.spreads[-1, 0]:.3f} m"
    lost = sum(change.state == "lost" for change in localization.changes)
    return after + (f"; lost {lost} times" if lost > 1 else "; lost once" if lost else "")


def _views(localization: Localization) -> list[tuple[str, Snapshot]]:
    """Return the three moments to look at closely: the first scan, a later one that tells most, and the last."""
    snapshots = localization.snapshots
    middle = snapshots[len(snapshots) // 2]
    words = "on the way"
    for before, after in pairwise(snapshots):
        if before.estimate.state == "lost" and after.estimate.state != "lost":
            middle, words = before, "before it was found again"
            break
    return [("first scan", snapshots[0]), (words, middle), ("last scan", snapshots[-1])]


def _draw_scan(axes: Axes, snapshot: Snapshot, *, size: float) -> None:
    colours = np.array(VERDICT_COLOURS)[snapshot.scan.verdicts]
    x, y = snapshot.scan.ends.T
    axes.scatter(x, y, s=size, c=colours, linewidths=0.0, zorder=5)


def _draw_close(axes: Axes, grid: Grid, run: Run, snapshot: Snapshot, first: FloatArray | None) -> None:
    draw_grid(axes, grid)
    for line in [*axes.lines, *axes.texts]:
        line.remove()
    axes.set_aspect("equal", adjustable="box")
    estimate = snapshot.estimate
    if first is not None:
        _draw_particles(axes, first, np.full(len(first), 1.0 / len(first)), faint=True)
    _draw_scan(axes, snapshot, size=7.0)
    _draw_particles(axes, snapshot.particles, snapshot.weights, faint=False)
    draw_robot(axes, run.robot, estimate.pose)
    sizes, directions = np.linalg.eigh(estimate.covariance[:2, :2])
    radii = np.sqrt(chi_square_bound(0.95, 2) * np.maximum(sizes, 0.0))
    axes.add_patch(
        Ellipse(
            tuple(estimate.pose[:2]),
            2.0 * radii[1],
            2.0 * radii[0],
            angle=float(np.degrees(np.arctan2(directions[1, 1], directions[0, 1]))),
            fill=False,
            edgecolor=OLIVE,
            linewidth=1.6,
            zorder=9,
        )
    )
    if run.truth is not None:
        x, y, heading = run.truth.at([estimate.t])[0]
        ahead = [x, x + 0.8 * np.cos(heading)], [y, y + 0.8 * np.sin(heading)]
        axes.plot(*ahead, color="black", linestyle=(0, (3, 2)), linewidth=1.2, zorder=10)
    # As close as the nearer part of what it sees allows.
    away = np.hypot(*(snapshot.scan.ends - estimate.pose[:2]).T)
    reach = float(np.clip(np.quantile(away, 0.3), *CLOSE)) if len(away) else CLOSE[0]
    axes.set_xlim(estimate.pose[0] - reach, estimate.pose[0] + reach)
    axes.set_ylim(estimate.pose[1] - reach, estimate.pose[1] + reach)
    axes.tick_params(labelsize=7, colors=CHARCOAL)


def _draw_particles(axes: Axes, particles: FloatArray, weights: FloatArray, *, faint: bool) -> None:
    every = -(-len(particles) // MOST_DRAWN)
    some, share = particles[::every], weights[::every] / weights.max()
    ends = some[:, :2] + TICK * np.stack([np.cos(some[:, 2]), np.sin(some[:, 2])], axis=-1)
    ticks = list(np.stack([some[:, :2], ends], axis=1))
    alpha = np.full(len(some), 0.25) if faint else np.clip(0.25 + 0.75 * share, 0.0, 1.0)
    axes.add_collection(LineCollection(ticks, colors=OLIVE, linewidths=0.8, alpha=alpha, zorder=4 if faint else 8))


def _draw_curves(figure: FigureBase, localization: Localization, errors: tuple[FloatArray, FloatArray] | None) -> None:
    """Draw the error with its band, and the number of particles, over the way."""
    travelled = localization.ways
    spreads = localization.spreads * [1.0, np.degrees(1.0)]
    # The scale is that of the time it tracked: lost, it is off by metres.
    late = localization.tracked if np.any(localization.tracked) else slice(None)
    for number, (bottom, unit) in enumerate(((0.275, "m"), (0.17, "degrees"))):
        side = add_side_axes(figure, bottom, 0.08, xlabel="", ylabel=unit)
        side.fill_between(travelled, 2.0 * spreads[:, number], color=OLIVE, alpha=0.35, linewidth=0.0)
        tall = 2.0 * spreads[late, number]
        if errors is not None:
            side.plot(travelled, errors[number], color="black", linewidth=0.8)
            tall = np.maximum(tall, errors[number][late])
        side.set_ylim(0.0, 1.2 * max(float(np.quantile(tall, 0.995)), 1e-3))
        side.tick_params(labelbottom=False)
        if number == 0:
            title = "2 sigma (band)" if errors is None else "error (line) and 2 sigma (band)"
            side.set_title(title, fontsize=9, loc="left")
    side = add_side_axes(figure, 0.065, 0.08, xlabel="way, m", ylabel="particles")
    side.step(travelled, localization.counts, color=OLIVE, linewidth=1.0, where="post")
    side.set_yscale("log")
    side.set_ylim(0.5 * float(localization.counts.min()), 2.0 * float(localization.counts.max()))
    side.yaxis.set_major_locator(FixedLocator([100, 300, 1000, 3000, 10000]))
    side.yaxis.set_major_formatter(StrMethodFormatter("{x:.0f}"))
    side.yaxis.set_minor_locator(NullLocator())
