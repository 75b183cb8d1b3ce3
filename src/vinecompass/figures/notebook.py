"""What a notebook shows of a map, a costmap, a plan, a run and a site: a small drawing in our colours."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from numpy.typing import NDArray

from vinecompass.costs import CostMap
from vinecompass.figures.canvas import AUBERGINE, PAPER, SAND, TEAL, draw_grid, draw_scale_bar, draw_truth, figure_bytes
from vinecompass.figures.cost_figure import draw_prices
from vinecompass.geometry import compose
from vinecompass.grids import Grid
from vinecompass.odometry import odometry_track
from vinecompass.planning import Plan
from vinecompass.runs import Run
from vinecompass.simulation import Site

__all__ = ["drawn_for_notebook"]

SIZE, DOTS = (6.4, 4.4), 100
"""Inches, and dots for each."""


def drawn_for_notebook(thing: Grid | CostMap | Plan | Run | Site) -> bytes:
    """Return a thing as a PNG; its title is its `repr`."""
    figure = Figure(SIZE, dpi=DOTS, facecolor=PAPER, layout="constrained")
    axes = figure.add_subplot(aspect="equal", facecolor=PAPER, title=repr(thing).strip("<>"))
    axes.title.set_fontsize(8)
    axes.tick_params(labelsize=8)
    match thing:
        case Grid():
            draw_grid(axes, thing)
        case CostMap():
            draw_prices(axes, thing)
        case Plan():
            _draw_way(axes, thing.poses)
        case Run():
            handles = [] if thing.truth is None else [draw_truth(axes, thing.truth.poses)]
            if thing.odometry is not None or thing.wheels is not None:
                handles += _draw_way(axes, compose(thing.start, odometry_track(thing).poses))
            axes.legend(handles=handles, fontsize=8)
        case Site():
            _draw_site(axes, thing)
    return figure_bytes(figure)


def _draw_way(axes: Axes, poses: NDArray[np.float64]) -> list[Line2D]:
    line = axes.plot(poses[:, 0], poses[:, 1], color=TEAL, linewidth=2.0, label="odometry")
    axes.margins(0.1)
    draw_scale_bar(axes)
    return line


def _draw_site(axes: Axes, site: Site) -> None:
    for wall in site.walls:
        axes.plot(*zip(*wall.points, strict=True), color=AUBERGINE, linewidth=1.6)
    for solid in site.solids:
        axes.fill(*zip(*solid.polygon, strict=True), color=AUBERGINE)
    for floor in site.floors:
        axes.fill(*zip(*floor.polygon, strict=True), color=SAND)
    for stop in site.stops:
        x, y, _ = stop.site_pose
        axes.annotate(
            stop.name,
            (x, y),
            color=TEAL,
            fontsize=8,
            ha="center",
            bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 1.0},
        )
    draw_scale_bar(axes)
