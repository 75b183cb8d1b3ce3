"""What each source makes of the motion, beside the truth or the fused track, with the spans of slip."""

from __future__ import annotations

from typing import Any

import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import LineCollection
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D
from matplotlib.patches import Patch
from matplotlib.ticker import StrMethodFormatter

from vinecompass.figures.canvas import (
    AUBERGINE,
    OLIVE,
    RUST,
    SLATE,
    STRAW,
    TEAL,
    add_side_axes,
    draw_robot,
    draw_scale_bar,
    draw_truth,
    new_sheet,
    write_side,
)
from vinecompass.fusion import Fused
from vinecompass.runs import Run, compare_tracks
from vinecompass.simulation import parse_site

__all__ = ["draw_fusion"]

STYLES: dict[str, tuple[str, Any, str]] = {
    "wheels": (RUST, "-", "wheels alone"),
    "odometry": (OLIVE, "--", "odometry stream alone"),
    "scans": (SLATE, "-.", "scans alone"),
    "fused": (TEAL, "-", "fused"),
}


def draw_fusion(fused: Fused, run: Run, *, ax: Axes | None = None) -> FigureBase:
    """Draw the tracks on the left and their errors over time on the right, slip shaded in both."""
    tracks = {**fused.alone, "fused": fused.track}
    reference = run.truth or fused.track
    errors = {name: compare_tracks(track, reference) for name, track in tracks.items()}
    ends = [f"{STYLES[name][2]} {error.position[-1]:.2f} m" for name, error in errors.items() if name != "fused"]
    if run.truth is not None:
        title = f"After {run.truth.length:.0f} m: {', '.join(ends)} off; fused, {errors['fused'].position[-1]:.2f} m"
    else:
        title = f"After {fused.track.length:.0f} m: {', '.join(ends)} from the fused track"
    figure, axes = new_sheet(title, ax=ax)
    legend: list[Line2D | Patch] = []
    if run.site_toml is not None:
        segments = parse_site(run.site_toml).segments.reshape(-1, 2, 2)
        axes.add_collection(LineCollection(list(segments), colors=AUBERGINE, linewidths=1.0, alpha=0.5))
    for name, track in tracks.items():
        colour, line, label = STYLES[name]
        width = 2.4 if name == "fused" else 1.5
        axes.plot(track.poses[:, 0], track.poses[:, 1], color=colour, linestyle=line, linewidth=width, zorder=5)
        legend.append(Line2D([], [], color=colour, linestyle=line, linewidth=width, label=label))
    for begin, end in fused.slips:
        inside = (fused.track.t >= begin) & (fused.track.t <= end)
        axes.plot(
            *fused.track.poses[inside, :2].T, color=STRAW, linewidth=9.0, alpha=0.8, zorder=4, solid_capstyle="butt"
        )
    if run.truth is not None:
        legend.append(draw_truth(axes, run.truth.poses))
    if len(fused.slips):
        legend.append(Patch(facecolor=STRAW, label=f"{fused.slipping} not believed (slip)"))
    legend.append(draw_robot(axes, run.robot, fused.track.poses[0], label="start"))
    axes.autoscale_view()
    draw_scale_bar(axes)
    # The fused track is its own yardstick where there is no truth.
    shown = [name for name in tracks if name != "fused" or run.truth is not None]
    numbers = [
        (f"{name}, end", f"{errors[name].position[-1]:.2f} m, {np.degrees(errors[name].heading[-1]):+.1f} deg")
        for name in shown
    ]
    numbers += [
        (f"{name}, normalised innovation", f"{report.normalised_innovation:.2f}")
        for name, report in fused.report.items()
    ]
    write_side(figure, legend, numbers)
    for bottom, ylabel, unit in ((0.235, "m off", "m"), (0.06, "degrees off", "deg")):
        small = add_side_axes(figure, bottom, 0.13, xlabel="t, s" if unit == "deg" else "", ylabel=ylabel)
        for name in shown:
            values = errors[name].position if unit == "m" else np.abs(np.degrees(errors[name].heading))
            colour, line, _ = STYLES[name]
            # Logarithmic, so that centimetres show beside metres.
            small.semilogy(errors[name].t, np.maximum(values, 1e-3), color=colour, linestyle=line, linewidth=1.3)
        small.yaxis.set_major_formatter(StrMethodFormatter("{x:g}"))
        for begin, end in fused.slips:
            small.axvspan(begin, end, color=STRAW, alpha=0.7, linewidth=0.0, zorder=0)
    return figure
