"""The priced floor."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.cm import ScalarMappable
from matplotlib.colors import LinearSegmentedColormap, Normalize, to_rgba
from matplotlib.figure import Figure
from matplotlib.patches import Patch

from vinecompass.costs import CostMap
from vinecompass.figures.canvas import (
    AUBERGINE,
    BURGUNDY,
    CHARCOAL,
    GREY,
    PAPER,
    RUST,
    SAND,
    STRAW,
    draw_image,
    new_sheet,
    write_side,
)  # fmt: skip
from vinecompass.robot import Robot

__all__ = ["draw_costs", "draw_prices"]

PRICE_COLOURS = LinearSegmentedColormap.from_list("prices", [STRAW, RUST, BURGUNDY])


def draw_costs(costmap: CostMap, robot: Robot) -> Figure:
    """Draw the prices, closed floor cross-hatched, with the shares of clear, dear and closed floor."""
    free = costmap.grid.free
    open_share = float(np.mean(np.isfinite(costmap.prices[free])))
    title = f"{100.0 * open_share:.0f} % of the free floor is open to {robot.name}"
    figure, axes = new_sheet(title)
    legend = draw_prices(axes, costmap)
    prices = costmap.prices[free]
    finite = prices[np.isfinite(prices)]
    area = costmap.grid.cell_size**2
    numbers = [
        ("clear floor (price 1)", f"{np.sum(finite == 1.0) * area:.0f} m2"),
        ("dear floor", f"{np.sum(finite > 1.0) * area:.0f} m2"),
        ("closed, though free", f"{np.sum(np.isinf(prices)) * area:.0f} m2"),
        ("dearest price", f"{finite.max(initial=1.0):.1f} m/m"),
        ("body's inner radius", f"{robot.body.inner_radius:.2f} m"),
        ("body's outer radius", f"{robot.body.outer_radius:.2f} m"),
    ]
    write_side(figure, legend, numbers)
    bar_axes = figure.add_axes((0.76, 0.12, 0.2, 0.022))
    bar = figure.colorbar(
        ScalarMappable(Normalize(1.0, float(finite.max(initial=2.0))), PRICE_COLOURS), cax=bar_axes,
        orientation="horizontal",
    )  # fmt: skip
    bar.set_label("price, metres-equivalent per metre", fontsize=9)
    return figure


def draw_prices(axes: Axes, costmap: CostMap) -> list[Patch]:
    """Draw the prices of a costmap. Returns its legend."""
    grid, prices = costmap.grid, costmap.prices
    finite = np.isfinite(prices)
    colours = np.zeros((*grid.shape, 4), np.float32)
    colours[finite] = to_rgba(PAPER)
    dear = finite & (prices > 1.0)
    top = max(float(prices[finite].max(initial=2.0)), 1.001)
    colours[dear] = PRICE_COLOURS((prices[dear] - 1.0) / (top - 1.0))
    closed = ~finite & ~grid.unknown & ~grid.occupied
    colours[closed] = to_rgba(BURGUNDY)
    # The cross-hatch, drawn into the image: two sets of diagonals, one cell wide, eight cells apart.
    rows, columns = np.nonzero(closed)
    crossed = ((rows + columns) % 8 == 0) | ((rows - columns) % 8 == 0)
    colours[rows[crossed], columns[crossed]] = to_rgba("#A8637B")
    colours[grid.occupied] = to_rgba(AUBERGINE)
    draw_image(axes, grid, colours)
    return [
        Patch(facecolor=PAPER, edgecolor=GREY, label="clear floor, price 1"),
        Patch(facecolor=RUST, edgecolor=CHARCOAL, linewidth=0.3, label="dear floor"),
        Patch(facecolor=BURGUNDY, edgecolor="#A8637B", hatch="xxxx", linewidth=0.0, label="closed to its origin"),
        Patch(facecolor=AUBERGINE, label="occupied"),
        Patch(facecolor=SAND, edgecolor="#C9BCA6", hatch="////", linewidth=0.0, label="unknown"),
    ]
