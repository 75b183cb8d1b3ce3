"""Ways that a person showed, beside the plans before and after prices were learned from them."""

from __future__ import annotations

from matplotlib.axes import Axes
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D
from matplotlib.patches import Patch, Polygon
from numpy.typing import NDArray

from vinecompass.costs import CostMap
from vinecompass.figures.canvas import BURGUNDY, CHARCOAL, GREY, SAFFRON, SLATE, TEAL, blank_sheet, write_side
from vinecompass.figures.cost_figure import draw_prices
from vinecompass.tuning import ShownPrices, Unexplained

__all__ = ["draw_shown"]


def draw_shown(
    before: CostMap, after: CostMap, found: ShownPrices, unexplained: list[Unexplained], *, ax: Axes | None = None
) -> FigureBase:
    """Draw the floor as it was priced and, below it, as it is priced now, with the ways shown and the plans."""
    any_held_back = any(each.held_back for each in found.ways)
    apart_before, apart_after = found.apart(held_back=any_held_back)
    whose = "ways held back" if any_held_back else "ways shown"
    figure = blank_sheet(f"Plans run {apart_after:.2f} m from the {whose}, before {apart_before:.2f} m", ax=ax)
    top = max(_dearest(before), _dearest(after))
    legend: list[Line2D | Patch] = []
    for bottom, costmap, title, plans in (
        (0.52, before, "before", [each.before for each in found.ways]),
        (0.05, after, "after", [each.after for each in found.ways]),
    ):
        axes = figure.add_axes((0.05, bottom, 0.67, 0.39))
        axes.set_aspect("equal", adjustable="box", anchor="W")
        legend = [*draw_prices(axes, costmap, top=top), *_draw_ways(axes, found, plans)]
        axes.set_ylabel(f"{title}: y, m", fontsize=10)
        axes.tick_params(colors=CHARCOAL, labelsize=8)
        for spine in axes.spines.values():
            spine.set_color(GREY)
    for place in unexplained:
        axes.plot(*place.place, marker="X", color=BURGUNDY, markersize=11, markeredgecolor="white", zorder=9)
        if place.zone is not None:
            outline = Polygon(place.zone.polygon, closed=True, fill=False, edgecolor=BURGUNDY, linewidth=1.6, zorder=8)
            axes.add_patch(outline)
    if unexplained:
        legend += [Line2D([], [], marker="X", color=BURGUNDY, linestyle="", markersize=9, label="no price explains")]
    if any(place.zone for place in unexplained):
        legend += [Line2D([], [], color=BURGUNDY, linewidth=1.6, label="a dear zone that would")]
    s = found.settings
    numbers = [("contact_price", f"{s.contact_price:g}"), ("comfort, m", f"{s.comfort:g}"), ("fall", s.fall)]
    numbers += [
        (
            f"{each.way.name}{', held back' if each.held_back else ''}",
            f"{each.apart_before:.2f} to {each.apart_after:.2f} m",
        )
        for each in found.ways[:10]
    ]
    write_side(figure, legend, numbers)
    return figure


def _dearest(costmap: CostMap) -> float:
    """Return the dearest price of open floor."""
    finite = costmap.prices[costmap.prices < float("inf")]
    return float(finite.max(initial=2.0))


def _draw_ways(axes: Axes, found: ShownPrices, plans: list[NDArray]) -> list[Line2D]:
    """Draw each way and the plan beside it. Returns the legend."""
    for each, plan in zip(found.ways, plans, strict=True):
        axes.plot(
            *each.way.poses[:, :2].T, color=SAFFRON if each.held_back else SLATE, linewidth=4.0, alpha=0.75, zorder=5
        )
        if len(plan):
            axes.plot(*plan[:, :2].T, color=TEAL, linewidth=1.6, zorder=6)
    return [
        Line2D([], [], color=SLATE, linewidth=4.0, alpha=0.75, label="shown"),
        Line2D([], [], color=SAFFRON, linewidth=4.0, alpha=0.75, label="shown, held back"),
        Line2D([], [], color=TEAL, linewidth=1.6, label="plan"),
    ]
