"""What a notebook shows of a map, a costmap, a plan, a run, a site, a mission and a study: a drawing and a table."""

from __future__ import annotations

import base64
from html import escape

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import Figure
from matplotlib.lines import Line2D
from numpy.typing import NDArray

from vinecompass.costs import CostMap
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.figures.canvas import (
    AUBERGINE,
    GREY,
    PAPER,
    SAND,
    SLATE,
    TEAL,
    draw_grid,
    draw_scale_bar,
    draw_truth,
    figure_bytes,
)
from vinecompass.figures.cost_figure import draw_prices
from vinecompass.geometry import compose
from vinecompass.grids import Grid
from vinecompass.odometry import odometry_track
from vinecompass.planning import Plan
from vinecompass.rehearsal import Rehearsal
from vinecompass.runs import Run
from vinecompass.simulation import Site, parse_site
from vinecompass.tuning import Study, best_values

__all__ = ["Thing", "draw", "drawn_for_notebook", "html_for_notebook"]

Thing = Grid | CostMap | Plan | Run | Site | Rehearsal | Study
"""What can be drawn on axes, and shows itself in a notebook."""
SIZE, DOTS = (6.4, 4.4), 100
"""Inches, and dots for each."""


@checked
def draw(thing: Thing, ax: Axes | None = None) -> Axes:
    """Draw a thing on axes, which are returned to be drawn on further: metres in the site frame, or costs of a study.

    Parameters
    ----------
    thing : Grid, CostMap, Plan, Run, Site, Rehearsal or Study
    ax : Axes, optional
        A new figure's, of the size that notebooks show, if not given.

    Raises
    ------
    InputError
        It is none of these.

    Examples
    --------
    >>> from vinecompass import demo_file, draw, read_site
    >>> ax = draw(read_site(demo_file("site.toml")))
    >>> ax.scatter([36.0], [24.6], zorder=9).get_offsets().shape
    (1, 2)
    """
    if not isinstance(thing, Thing):
        expected = "a Grid, CostMap, Plan, Run, Site, Rehearsal or Study"
        raise InputError(f"is a {type(thing).__name__}", key="thing", expected=expected)
    if ax is None:
        figure = Figure(SIZE, dpi=DOTS, facecolor=PAPER, layout="constrained")
        ax = figure.add_subplot(facecolor=PAPER, title=repr(thing).strip("<>"))
        ax.title.set_fontsize(8)
        ax.tick_params(labelsize=8)
    if isinstance(thing, Study):
        _draw_study(ax, thing)
        return ax
    ax.set_aspect("equal")
    match thing:
        case Grid():
            draw_grid(ax, thing)
        case CostMap():
            draw_prices(ax, thing)
        case Plan():
            _draw_way(ax, thing.poses, "plan")
        case Run():
            handles = [] if thing.truth is None else [draw_truth(ax, thing.truth.poses)]
            if thing.odometry is not None or thing.wheels is not None:
                handles += _draw_way(ax, compose(thing.start, odometry_track(thing).poses), "odometry")
            ax.legend(handles=handles, fontsize=8)
        case Site():
            _draw_site(ax, thing)
        case Rehearsal():
            if thing.run.site_toml is not None:
                _draw_site(ax, parse_site(thing.run.site_toml))
            handles = [] if thing.run.truth is None else [draw_truth(ax, thing.run.truth.poses)]
            ax.legend(handles=[*_draw_way(ax, thing.track.poses, "estimate"), *handles], fontsize=8)
    if not isinstance(thing, (Grid, CostMap)):
        draw_scale_bar(ax)
    return ax


def drawn_for_notebook(thing: Thing) -> bytes:
    """Return a thing as a PNG; its title is its `repr`."""
    figure = draw(thing).figure
    assert isinstance(figure, Figure)
    return figure_bytes(figure)


def html_for_notebook(thing: Thing) -> str:
    """Return a thing as it is shown in a notebook: its drawing, and a small table of facts beside it."""
    picture = base64.b64encode(drawn_for_notebook(thing)).decode("ascii")
    rows = "".join(f"<tr><td>{escape(name)}</td><td>{escape(told)}</td></tr>" for name, told in _facts(thing))
    image = f'<img alt="{escape(repr(thing))}" src="data:image/png;base64,{picture}">'
    return f'<div style="display:flex;gap:1em;align-items:start">{image}<table>{rows}</table></div>'


def _facts(thing: Thing) -> list[tuple[str, str]]:
    """Return what is told beside a drawing."""
    match thing:
        case Grid():
            area = thing.cell_size**2
            x, y = thing.corner
            return [
                ("cells", f"{thing.shape[1]} x {thing.shape[0]} of {thing.cell_size:g} m"),
                ("corner", f"{x:.2f}, {y:.2f} m"),
                ("free", f"{area * np.sum(thing.free):.0f} m2"),
                ("occupied", f"{area * np.sum(thing.occupied):.1f} m2"),
            ]
        case CostMap():
            finite = thing.prices[np.isfinite(thing.prices)]
            return [
                ("open", f"{finite.size * thing.grid.cell_size**2:.0f} m2"),
                ("dearest", f"{finite.max(initial=1.0):.1f} m/m"),
                ("layers", ", ".join(thing.layers)),
            ]
        case Plan():
            found = [("length", f"{thing.length:.2f} m"), ("cost", f"{thing.cost:.2f} m")]
            return found if thing.found else [("no way", thing.reason)]
        case Run():
            counts = [(name, f"{len(stream.t)} rows") for name, stream in thing.streams().items()]
            return [("robot", thing.robot.name), *counts]
        case Site():
            return [("stops", ", ".join(stop.name for stop in thing.stops)), ("people", f"{len(thing.people)}")]
        case Rehearsal():
            stops = [
                (each.name, f"reached after {each.t:.0f} s" if each.reached else each.reason) for each in thing.arrivals
            ]
            return [*stops, ("contacts", f"{thing.contacts}"), ("plans", f"{len(thing.plans)}")]
        case Study():
            best = best_values(thing) if thing.tried() else {}
            values = [(key, f"{value}") for key, value in sorted(best.items())]
            return [("trials", f"{len(thing.trials)}"), ("sets of values", f"{len(thing.tried())}"), *values]


def _draw_study(axes: Axes, study: Study) -> None:
    """Draw the cost of each trial over its seed, the best set of values apart."""
    best = best_values(study) if study.trials else {}
    for number, values in enumerate(study.tried()):
        costs = study.of(values)
        colour, size = (TEAL, 40.0) if values == best else (SLATE, 40.0) if not values else (GREY, 12.0)
        label = "the best" if values == best else "as they are" if not values else "tried" if number == 1 else None
        axes.scatter(list(costs), list(costs.values()), s=size, color=colour, label=label, zorder=3 if size > 20 else 2)
    axes.set_xlabel("seed", fontsize=8)
    axes.set_ylabel("cost", fontsize=8)
    axes.legend(fontsize=8)


def _draw_way(axes: Axes, poses: NDArray[np.float64], label: str) -> list[Line2D]:
    axes.margins(0.1)
    return axes.plot(poses[:, 0], poses[:, 1], color=TEAL, linewidth=2.0, label=label)


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
