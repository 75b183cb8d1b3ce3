"""A map judged by itself, and beside another."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D
from matplotlib.patches import Patch, Polygon

from vinecompass.figures.canvas import BURGUNDY, OLIVE, RUST, SLATE, TEAL, draw_grid, new_sheet, write_side
from vinecompass.grids import Grid
from vinecompass.judging import MapComparison, MapQuality

__all__ = ["draw_comparison", "draw_quality"]

KIND_COLOURS = {"new": RUST, "vanished": SLATE, "moved": OLIVE}
NUMBERED = 12
"""Spots that are numbered and listed."""


def draw_quality(grid: Grid, quality: MapQuality, *, ax: Axes | None = None) -> FigureBase:
    """Draw a map with its double lines and its open edges, the longest numbered."""
    figure, axes = new_sheet(
        f"Walls {100.0 * quality.wall_thickness:.0f} cm thick, "
        f"{100.0 * quality.unknown_share:.0f} % of the floor unknown",
        ax=ax,
    )
    legend: list = list(draw_grid(axes, grid))
    styles = {"open edge": (TEAL, "o"), "double line": (BURGUNDY, "X")}
    for kind, (colour, marker) in styles.items():
        spots = [spot for spot in quality.spots if spot.kind == kind]
        if spots:
            sizes = [30.0 + 12.0 * min(spot.length, 8.0) for spot in spots]
            axes.scatter([s.x for s in spots], [s.y for s in spots], s=sizes, c=colour, marker=marker, zorder=7)
        legend.append(Line2D([], [], color=colour, marker=marker, linestyle="", label=f"{kind}s, {len(spots)}"))
    for number, spot in enumerate(quality.spots[:NUMBERED], start=1):
        axes.annotate(f"{number}", (spot.x, spot.y), xytext=(6, 5), textcoords="offset points", fontsize=9, zorder=8)
    numbers = [
        ("wall thickness", f"{100.0 * quality.wall_thickness:.1f} cm"),
        ("hardly decided cells", f"{100.0 * quality.unsure_share:.1f} %"),
        ("unknown floor", f"{100.0 * quality.unknown_share:.1f} %"),
    ]
    numbers += [
        (f"{number} {spot.kind}", f"{spot.length:.1f} m at {spot.x:.1f}, {spot.y:.1f}")
        for number, spot in enumerate(quality.spots[:NUMBERED], start=1)
    ]
    write_side(figure, legend, numbers)
    return figure


def draw_comparison(grid: Grid, found: MapComparison, *, ax: Axes | None = None) -> FigureBase:
    """Draw a map, the other's walls laid over it, and what is new, gone or moved."""
    figure, axes = new_sheet(
        f"{100.0 * found.matched:.1f} % of the walls match; {len(found.things)} things are new, gone or moved", ax=ax
    )
    legend: list = list(draw_grid(axes, grid))
    axes.plot(*found.other.occupied_points().T, ",", color=SLATE, zorder=4, alpha=0.7)
    legend.append(Line2D([], [], color=SLATE, marker=".", linestyle="", label="walls of the other map"))
    for kind, colour in KIND_COLOURS.items():
        things = [thing for thing in found.things if thing.kind == kind]
        for thing in things:
            axes.add_patch(Polygon(thing.polygon, closed=True, facecolor=colour, edgecolor=colour, alpha=0.5, zorder=6))
            if thing.moved_from is not None:
                axes.annotate(
                    "",
                    thing.middle,
                    thing.moved_from,
                    zorder=8,
                    arrowprops={"arrowstyle": "->", "color": colour, "linewidth": 1.8},
                )
        legend.append(Patch(facecolor=colour, alpha=0.6, label=f"{kind}, {len(things)}"))
    x, y, heading = found.alignment.pose
    write_side(
        figure,
        legend,
        [
            ("matching walls", f"{100.0 * found.matched:.1f} %"),
            ("the other way", f"{100.0 * found.matched_other:.1f} %"),
            ("other map at", f"{x:.2f}, {y:.2f}"),
            ("turned by", f"{np.degrees(heading):.2f} deg"),
        ],
    )
    return figure
