"""The priced floor."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.cm import ScalarMappable
from matplotlib.colors import LinearSegmentedColormap, Normalize, to_rgba
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D
from matplotlib.patches import Patch
from numpy.typing import NDArray

from vinecompass.costs import ClearanceLayer, CostMap, price_at_gap
from vinecompass.figures.canvas import (
    AUBERGINE,
    BURGUNDY,
    CHARCOAL,
    GREY,
    PAPER,
    RUST,
    SAND,
    SLATE,
    STRAW,
    add_side_axes,
    draw_image,
    new_sheet,
    write_side,
)
from vinecompass.grids import Grid
from vinecompass.planning import NarrowPlace
from vinecompass.robot import Robot

__all__ = ["add_price_bar", "draw_costs", "draw_narrow_places", "draw_prices", "price_colours", "top_price"]

MOST_LISTED = 12
"""Narrow places listed beside the map; all are numbered on it."""

PRICE_COLOURS = LinearSegmentedColormap.from_list("prices", [STRAW, RUST, BURGUNDY])


def draw_costs(
    costmap: CostMap, robot: Robot, places: Sequence[NarrowPlace] = (), *, ax: Axes | None = None
) -> FigureBase:
    """Draw the prices, closed floor cross-hatched, how they fall with the gap beside the body, and narrow places."""
    free = costmap.grid.free
    open_share = float(np.mean(np.isfinite(costmap.prices[free])))
    title = f"{100.0 * open_share:.0f} % of the free floor is open to {robot.name}"
    if places:
        title += f"; {sum(not place.passes for place in places)} of {len(places)} narrow places are not"
    figure, axes = new_sheet(title, ax=ax)
    legend: list = list(draw_prices(axes, costmap))
    prices = costmap.prices[free]
    finite = prices[np.isfinite(prices)]
    area = costmap.grid.cell_size**2
    numbers = [
        ("clear floor (price 1)", f"{np.sum(finite == 1.0) * area:.0f} m2"),
        ("dear floor", f"{np.sum(finite > 1.0) * area:.0f} m2"),
        ("closed, though free", f"{np.sum(np.isinf(prices)) * area:.0f} m2"),
        ("dearest price", f"{finite.max(initial=1.0):.1f} m/m"),
    ]
    if places:
        legend += draw_narrow_places(axes, places)
        numbers = [
            (
                f"{number}  {place.width:.2f} m at {place.x:.1f}, {place.y:.1f}",
                f"{place.price:.1f} m/m" if place.passes else "closed",
            )
            for number, place in enumerate(places[:MOST_LISTED], start=1)
        ]
    else:
        draw_fall(figure, costmap)
    write_side(figure, legend, numbers)
    add_price_bar(figure, costmap)
    return figure


def draw_narrow_places(ax: Axes, places: Sequence[NarrowPlace]) -> list[Line2D]:
    """Mark narrow places by number: a cross if the robot does not pass, a ring if it does. Returns the legend."""
    for number, place in enumerate(places, start=1):
        marker = "o" if place.passes else "X"
        ax.plot(
            place.x,
            place.y,
            marker=marker,
            color=SLATE,
            markersize=8,
            markerfacecolor="none" if place.passes else SLATE,
            markeredgewidth=1.6,
            zorder=8,
        )
        ax.annotate(
            f"{number}",
            (place.x, place.y),
            xytext=(6, 5),
            textcoords="offset points",
            fontsize=9,
            zorder=9,
            bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 0.6, "alpha": 0.8},
        )
    return [
        Line2D(
            [],
            [],
            color=SLATE,
            linestyle="",
            markersize=8,
            marker=marker,
            markerfacecolor=face,
            markeredgewidth=1.6,
            label=label,
        )
        for marker, face, label in (("o", "none", "narrow, passes"), ("X", SLATE, "narrow, does not pass"))
    ]


def draw_fall(figure: FigureBase, costmap: CostMap) -> None:
    """Plot the price over the gap that the body leaves at its narrowest, into the column on the right."""
    near = costmap.stack[-1]
    assert isinstance(near, ClearanceLayer)
    gap = np.linspace(0.0, 1.3 * near.comfort, 200, dtype=np.float32)
    axes = add_side_axes(figure, 0.22, 0.17, xlabel="gap beside the body, m", ylabel="price, m/m")
    price = price_at_gap(gap, contact_price=near.contact_price, comfort=near.comfort, fall=near.fall)
    axes.plot(gap, price, color=RUST, linewidth=2.0)
    axes.set_ylim(0.0, None)
    axes.set_title(f"fall: {near.fall}, {near.contact_price:g} to 1 over {near.comfort:g} m", fontsize=9, loc="left")


def add_price_bar(
    figure: FigureBase,
    costmap: CostMap,
    top: float | None = None,
    place: tuple[float, float, float, float] = (0.77, 0.1, 0.2, 0.022),
) -> None:
    """Add the scale of prices at a place of the sheet: below the column on the right, if not given."""
    highest = top or top_price(costmap)
    bar_axes = figure.add_axes(place)
    bar = figure.colorbar(
        ScalarMappable(Normalize(1.0, highest), PRICE_COLOURS), cax=bar_axes, orientation="horizontal"
    )
    bar.set_label("price, metres-equivalent per metre", fontsize=9)


def top_price(costmap: CostMap) -> float:
    """Return the dearest open price."""
    return max(float(costmap.prices.max(initial=2.0, where=np.isfinite(costmap.prices))), 1.001)


def price_colours(grid: Grid, prices: NDArray[np.float32], top: float | None = None) -> NDArray[np.float32]:
    """Return the colours ``(rows, columns, 4)`` of dear floor, up to a top price, and of closed; else it is clear."""
    finite = np.isfinite(prices)
    colours = np.zeros((*grid.shape, 4), np.float32)
    dear = finite & (prices > 1.0)
    highest = top or max(float(prices[finite].max(initial=2.0)), 1.001)
    colours[dear] = PRICE_COLOURS((prices[dear] - 1.0) / (highest - 1.0))
    closed = ~finite & grid.free
    colours[closed] = to_rgba(BURGUNDY)
    # The cross-hatch, drawn into the image: two sets of diagonals, one cell wide, eight cells apart.
    rows, columns = np.nonzero(closed)
    crossed = ((rows + columns) % 8 == 0) | ((rows - columns) % 8 == 0)
    colours[rows[crossed], columns[crossed]] = to_rgba("#A8637B")
    return colours


def draw_prices(
    ax: Axes, costmap: CostMap, factors: NDArray[np.float32] | None = None, top: float | None = None
) -> list[Patch]:
    """Draw the prices of a costmap, or one layer's factors, up to a top price. Returns the legend."""
    grid, prices = costmap.grid, costmap.prices if factors is None else factors
    colours = price_colours(grid, prices, top)
    colours[np.isfinite(prices) & (prices <= 1.0)] = to_rgba(PAPER)
    colours[grid.occupied] = to_rgba(AUBERGINE)
    draw_image(ax, grid, colours)
    return [
        Patch(facecolor=PAPER, edgecolor=GREY, label="clear floor, price 1"),
        Patch(facecolor=RUST, edgecolor=CHARCOAL, linewidth=0.3, label="dear floor"),
        Patch(
            facecolor=BURGUNDY, edgecolor="#A8637B", hatch="xxxx", linewidth=0.0, label="closed to the robot's middle"
        ),
        Patch(facecolor=AUBERGINE, label="occupied"),
        Patch(facecolor=SAND, edgecolor="#C9BCA6", hatch="////", linewidth=0.0, label="unknown"),
    ]
