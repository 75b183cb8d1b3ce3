"""A map and the way that was driven for it, with the places seen again."""

from __future__ import annotations

from typing import Literal

import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import LineCollection
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D
from numpy.typing import NDArray

from vinecompass.figures.canvas import (
    GREY,
    RUST,
    SLATE,
    TEAL,
    add_side_axes,
    draw_grid,
    draw_truth,
    new_sheet,
    write_side,
)
from vinecompass.geometry import transform_points
from vinecompass.grids import Grid
from vinecompass.judging import MapAccuracy
from vinecompass.mapping import Loop, Mapper, Mapping
from vinecompass.runs import Run, compare_relations, compare_tracks

__all__ = ["draw_map", "draw_mapping"]


def draw_map(grid: Grid, *, ax: Axes | None = None) -> FigureBase:
    """Draw a map as it is read: free, occupied and unknown."""
    area = grid.cell_size**2
    numbers = [
        (name, f"{cells.sum() * area:.1f} m2")
        for name, cells in (("free", grid.free), ("occupied", grid.occupied), ("unknown", grid.unknown))
    ]
    rows, columns = grid.shape
    size = f"{columns * grid.cell_size:.1f} m x {rows * grid.cell_size:.1f} m"
    figure, axes = new_sheet(f"{numbers[0][1]} read as free, {numbers[1][1]} as occupied, on {size}", ax=ax)
    legend: list = list(draw_grid(axes, grid))
    write_side(figure, legend, [*numbers, ("side of a cell", f"{grid.cell_size:g} m")])
    return figure


def draw_mapping(mapping: Mapping, run: Run, accuracy: MapAccuracy | None, *, ax: Axes | None = None) -> FigureBase:
    """Draw a map with the matched way, its loops, the truth where known, and the agreement of each scan over time."""
    grid, track, closed = mapping.grid, mapping.track, mapping.mapper.closed_loops
    refused = [loop for loop in mapping.mapper.loops if loop.refused]
    title = f"{len(mapping.mapper.keyframes)} scans make {grid.free.sum() * grid.cell_size**2:.0f} m2 of free floor"
    if accuracy is not None:
        title = (
            f"{100.0 * accuracy.on_wall:.1f} % of occupied cells lie on a true wall, "
            f"{100.0 * accuracy.walls_found:.1f} % of seen walls are mapped"
        )
    figure, axes = new_sheet(title, ax=ax)
    legend: list = list(draw_grid(axes, grid))
    axes.plot(track.poses[:, 0], track.poses[:, 1], color=TEAL, linewidth=1.4, zorder=6)
    legend.append(Line2D([], [], color=TEAL, linewidth=1.4, label="matched way"))
    kinds: tuple[tuple[list[Loop], str, Literal["dotted", "solid"], str], ...] = (
        (refused, GREY, "dotted", "places not taken for the same"),
        (closed, RUST, "solid", "places seen again"),
    )
    for some, colour, style, label in kinds:
        if some:
            lines = _lines(mapping.mapper, some)
            axes.add_collection(LineCollection(list(lines), colors=colour, linestyles=style, linewidths=1.3, zorder=7))
            axes.plot(*lines.reshape(-1, 2).T, ".", color=colour, markersize=3.5, zorder=7)
            legend.append(Line2D([], [], color=colour, linestyle=style, linewidth=1.3, label=label))
    numbers = [
        ("size", f"{grid.shape[1]} x {grid.shape[0]} cells of {grid.cell_size:g} m"),
        ("scans kept", f"{len(mapping.mapper.keyframes)} of {len(track)}"),
        ("mean agreement", f"{np.nanmean(mapping.agreements):.3f}"),
        ("loops closed, refused", f"{len(closed)}, {len(refused)}"),
    ]
    if closed:
        numbers.append(("most drift taken out", f"{max(loop.drift for loop in closed):.2f} m"))
    if run.truth is not None:
        legend.append(draw_truth(axes, run.truth.poses))
        error = compare_tracks(track, run.truth)
        numbers += [
            ("position RMSE", f"{error.position_rmse:.3f} m"),
            ("once aligned", f"{compare_relations(track, run.truth).aligned_rmse:.3f} m"),
            ("heading RMSE", f"{np.degrees(error.heading_rmse):.2f} deg"),
        ]
    if accuracy is not None:
        numbers.append(("walls doubled", f"{100.0 * accuracy.doubled:.1f} %"))
    write_side(figure, legend, numbers)
    side = add_side_axes(figure, 0.09, 0.2, xlabel="time, s", ylabel="agreement with the map")
    matched = np.isfinite(mapping.agreements)
    side.plot(track.t[matched], mapping.agreements[matched], color=SLATE, linewidth=0.9)
    side.set_ylim(0.0, 1.0)
    return figure


def _lines(mapper: Mapper, loops: list[Loop]) -> NDArray[np.float64]:
    """Return a line ``(N, 2, 2)`` between the middles of the two submaps of each loop."""
    middles = np.array(
        [
            transform_points(pose, submap.middle[None])[0]
            for pose, submap in zip(mapper.graph.poses, mapper.submaps, strict=True)
        ]
    )
    return middles[[(loop.submap, loop.former) for loop in loops]]
