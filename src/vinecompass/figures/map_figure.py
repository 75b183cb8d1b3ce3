"""A map and the way that was driven for it."""

from __future__ import annotations

import numpy as np
from matplotlib.figure import Figure
from matplotlib.lines import Line2D

from vinecompass.figures.canvas import SLATE, TEAL, add_side_axes, draw_grid, draw_truth, new_sheet, write_side
from vinecompass.mapping import MapAccuracy, Mapping
from vinecompass.runs import Run, compare_tracks

__all__ = ["draw_mapping"]


def draw_mapping(mapping: Mapping, run: Run, accuracy: MapAccuracy | None) -> Figure:
    """Draw a map with the matched way, the truth where known, and the agreement of each scan over time."""
    grid, track = mapping.grid, mapping.track
    known = 100.0 * (1.0 - np.mean(grid.log_odds == 0.0))
    if accuracy is None:
        title = f"{len(track)} scans make a map of {grid.free.sum() * grid.cell_size**2:.0f} m2 of free floor"
    else:
        title = (
            f"{100.0 * accuracy.on_wall:.1f} % of occupied cells lie on a true wall, "
            f"{100.0 * accuracy.walls_found:.1f} % of seen walls are mapped"
        )
    figure, axes = new_sheet(title)
    legend: list = list(draw_grid(axes, grid))
    axes.plot(track.poses[:, 0], track.poses[:, 1], color=TEAL, linewidth=1.4, zorder=6)
    legend.append(Line2D([], [], color=TEAL, linewidth=1.4, label="matched way"))
    numbers = [
        ("cell", f"{grid.cell_size:g} m"),
        ("size", f"{grid.shape[1]} x {grid.shape[0]} cells"),
        ("observed", f"{known:.0f} %"),
        ("scans added", f"{mapping.keyframes} of {len(track)}"),
        ("mean agreement", f"{np.nanmean(mapping.agreements):.3f}"),
    ]
    if run.truth is not None:
        legend.append(draw_truth(axes, run.truth.poses))
        error = compare_tracks(track, run.truth)
        numbers += [
            ("position RMSE", f"{error.position_rmse:.3f} m"),
            ("heading RMSE", f"{np.degrees(error.heading_rmse):.2f} deg"),
        ]
    if accuracy is not None:
        numbers.append(("walls doubled", f"{100.0 * accuracy.doubled:.1f} %"))
    write_side(figure, legend, numbers)
    side = add_side_axes(figure, 0.09, 0.2, xlabel="time, s", ylabel="agreement with the map")
    side.plot(track.t, mapping.agreements, color=SLATE, linewidth=0.9)
    side.set_ylim(0.0, 1.0)
    return figure
