"""A costmap taken apart: its layers, a line across it, and what a change of settings does."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.colors import to_rgba
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D
from matplotlib.patches import Patch

from vinecompass.costs import CostMap
from vinecompass.figures.canvas import (
    AUBERGINE,
    BURGUNDY,
    CHARCOAL,
    GREY,
    OLIVE,
    PAPER,
    RUST,
    SLATE,
    TEAL,
    blank_sheet,
    draw_image,
    new_sheet,
    write_side,
)
from vinecompass.figures.cost_figure import add_price_bar, draw_prices, top_price
from vinecompass.robot import Robot

__all__ = ["draw_cost_change", "draw_layers", "draw_profile"]

CLOSERS = (AUBERGINE, RUST, SLATE, OLIVE, TEAL, GREY)
"""Colours of the layers by which cells are closed, in their order; the clearance's is burgundy."""


def draw_layers(costmap: CostMap, *, ax: Axes | None = None) -> FigureBase:
    """Draw what each layer charges, each on a map of its own, and on the last one which layer closes each cell."""
    names = list(costmap.layers)
    closed = np.isinf(costmap.prices) & ~costmap.grid.unknown
    figure, all_axes, left_over = _panels(
        len(names) + 1, f"{len(names)} layers charge the floor; the last map shows what closes it", costmap, ax
    )
    top = top_price(costmap)
    for axes, name in zip(all_axes, names, strict=False):
        factors = costmap.layers[name]
        draw_prices(axes, costmap, factors, top)
        finite = factors[np.isfinite(factors)]
        told = f"{name}: up to {finite.max(initial=1.0):.1f}"
        shut = float(np.sum(np.isinf(factors) & ~costmap.grid.unknown)) * costmap.grid.cell_size**2
        axes.set_title(told + (f", closes {shut:.1f} m2" if shut else ", closes nothing"), fontsize=10, loc="left")
    last = all_axes[len(names)]
    colours = np.zeros((*costmap.grid.shape, 4), np.float32)
    colours[np.isfinite(costmap.prices)] = to_rgba(PAPER)
    legend = [Patch(facecolor=PAPER, edgecolor=GREY, label="open")]
    for number, name in enumerate(reversed(names)):
        colour = BURGUNDY if name == "clearance" else CLOSERS[(len(names) - 1 - number) % len(CLOSERS)]
        shut_by = np.isinf(costmap.layers[name]) & closed
        colours[shut_by] = to_rgba(colour)
        if np.any(shut_by):
            legend.append(Patch(facecolor=colour, label=name))
    draw_image(last, costmap.grid, colours)
    last.set_title("closed by", fontsize=10, loc="left")
    if left_over is None:
        # Two columns leave room beside the maps, three below them.
        beside = len(all_axes) <= 4
        last.legend(
            handles=legend,
            fontsize=9,
            loc="upper left",
            bbox_to_anchor=(1.02, 1.0) if beside else (-0.02, -0.08),
            frameon=False,
            ncols=1 if beside else 3,
        )
        return figure
    x, y, width, height = left_over
    figure.legend(
        handles=legend, title="closed by", fontsize=9, loc="upper left", bbox_to_anchor=(x, y + height), frameon=False
    )
    add_price_bar(figure, costmap, top, place=(x, y + 0.2 * height, 0.8 * width, 0.022))
    return figure


def draw_profile(
    costmap: CostMap, robot: Robot, start: tuple[float, float], end: tuple[float, float], *, ax: Axes | None = None
) -> FigureBase:
    """Draw the prices, a line across them, and what each layer charges along it."""
    a, b = np.array(start), np.array(end)
    length = float(np.hypot(*(b - a)))
    along = np.linspace(0.0, length, max(int(2.0 * length / costmap.grid.cell_size), 2))
    points = a + along[:, None] / max(length, 1e-9) * (b - a)
    prices = costmap.grid.values_at(points, costmap.prices, np.inf)
    shut = float(np.mean(np.isinf(prices)))
    dearest = float(prices.max(initial=1.0, where=np.isfinite(prices)))
    figure, axes = new_sheet(
        f"Along {length:.1f} m the floor costs up to {dearest:.1f}, and {100.0 * shut:.0f} % is closed", ax=ax
    )
    axes.set_position((0.05, 0.4, 0.675, 0.52))
    legend: list = list(draw_prices(axes, costmap))
    axes.plot(*np.stack([a, b]).T, color=SLATE, linewidth=2.0, marker="o", markersize=5, zorder=7)
    legend.append(Line2D([], [], color=SLATE, linewidth=2.0, marker="o", label="the line, from left to right below"))
    below = figure.add_axes((0.05, 0.08, 0.675, 0.26))
    below.set_facecolor(PAPER)
    below.plot(along, np.where(np.isinf(prices), np.nan, prices), color=GREY, linewidth=5.0, label="price")
    styles = ("-", "--", ":", "-.", (0, (5, 1, 1, 1, 1, 1)))
    for number, name in enumerate(costmap.layers):
        factors = costmap.grid.values_at(points, costmap.layers[name], np.inf)
        below.plot(
            along,
            np.where(np.isinf(factors), np.nan, factors),
            color=CLOSERS[number % len(CLOSERS)],
            linestyle=styles[number % len(styles)],
            linewidth=1.6,
            label=name,
        )
    below.fill_between(
        along,
        0.0,
        1.0,
        where=np.isinf(prices),
        transform=below.get_xaxis_transform(),
        color=BURGUNDY,
        alpha=0.35,
        label="closed",
        linewidth=0.0,
    )
    below.set_xlim(0.0, length)
    below.set_ylim(0.0, max(1.1 * dearest, 2.0))
    below.set_xlabel("along the line, m")
    below.set_ylabel("price, m/m")
    below.legend(fontsize=9, loc="center left", bbox_to_anchor=(1.02, 0.5), frameon=False)
    write_side(
        figure,
        legend,
        [
            ("dearest open price", f"{dearest:.2f} m/m"),
            ("closed", f"{shut * length:.2f} m"),
            ("the body needs on each side", f"{robot.body.inner_radius:.2f} m"),
        ],
    )
    return figure


def draw_cost_change(before: CostMap, after: CostMap, name: str, other: str, *, ax: Axes | None = None) -> FigureBase:
    """Draw two costmaps of one floor beside each other, and how much of it changed."""
    area = before.grid.cell_size**2
    opened = np.isinf(before.prices) & np.isfinite(after.prices)
    shut = np.isfinite(before.prices) & np.isinf(after.prices)
    both = np.isfinite(before.prices) & np.isfinite(after.prices)
    with np.errstate(invalid="ignore"):
        dearer = both & (after.prices > before.prices * 1.001)
        cheaper = both & (after.prices < before.prices * 0.999)
    figure, all_axes, _ = _panels(
        2,
        (
            f"With {other}: {np.sum(dearer) * area:.0f} m2 dearer, {np.sum(cheaper) * area:.0f} m2 cheaper, "
            f"{np.sum(opened) * area:.0f} m2 opened, {np.sum(shut) * area:.0f} m2 closed"
        ),
        before,
        ax,
    )
    top = max(top_price(before), top_price(after))
    for axes, costmap, told in zip(all_axes, (before, after), (name, other), strict=True):
        draw_prices(axes, costmap, None, top)
        mean = float(np.mean(costmap.prices[both]))
        axes.set_title(f"{told}: {mean:.2f} m/m on average over what both leave open", fontsize=10, loc="left")
    add_price_bar(figure, before, top)
    return figure


def _panels(
    count: int, title: str, costmap: CostMap, ax: Axes | None
) -> tuple[FigureBase, list[Axes], tuple[float, float, float, float] | None]:
    """Return a sheet with several maps on it, one below the other as near as they are high, and a place left over."""
    figure = blank_sheet(title, ax=ax)
    columns = 2 if count <= 4 else 3
    rows = -(-count // columns)
    width = 0.94 / columns - 0.04
    cells = costmap.grid.corner_points
    deep, wide = np.ptp(cells[:, 1]), np.ptp(cells[:, 0])
    extent = figure.get_window_extent()
    height = min(width * extent.width / extent.height * deep / wide, 0.86 / rows - 0.06)
    places = []
    for number in range(rows * columns):
        row, column = divmod(number, columns)
        places.append((0.04 + column * (width + 0.04), 0.86 - row * (height + 0.09) - height, width, height))
    all_axes = []
    for place in places[:count]:
        axes = figure.add_axes(place)
        axes.set_aspect("equal", adjustable="box", anchor="NW")
        axes.set_facecolor(PAPER)
        axes.tick_params(colors=CHARCOAL, labelsize=8)
        all_axes.append(axes)
    return figure, all_axes, places[count] if count < len(places) else None
