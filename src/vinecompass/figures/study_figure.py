"""A study of settings: how the cost goes with each of them, and with two together."""

from __future__ import annotations

from collections.abc import Mapping

import numpy as np
from matplotlib.axes import Axes
from matplotlib.colors import LinearSegmentedColormap, Normalize
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D
from matplotlib.ticker import FuncFormatter, LogLocator, NullFormatter

from vinecompass.figures.canvas import (
    BURGUNDY,
    CHARCOAL,
    GREY,
    PAPER,
    RUST,
    SAFFRON,
    SLATE,
    STRAW,
    TEAL,
    blank_sheet,
    write_side,
)
from vinecompass.settings import find_setting
from vinecompass.tuning import Comparison, Explanation, Study, mean_cost

__all__ = ["draw_study", "told_changes"]

MOST_PANELS = 6
COSTS = LinearSegmentedColormap.from_list("costs", [STRAW, RUST, BURGUNDY])
AREA = (0.07, 0.08, 0.63, 0.83)
"""Left, bottom, width and height of the part of the sheet that the panels share."""


def draw_study(study: Study, explanation: Explanation, *, ax: Axes | None = None) -> FigureBase:
    """Draw the cost of all that was tried over each varied setting, those with the strongest effect first.

    Costs are drawn beside those of the settings as they are on the same seed: what a seed does to both cancels.

    Of two settings, a third panel shows both together.
    """
    chosen_on = study.on_seeds(0, explanation.seeds)
    tried = chosen_on.tried()
    keys = [effect.key for effect in explanation.effects] or sorted({key for values in tried for key in values})
    title = explanation.verdict[0].upper() + explanation.verdict[1:]
    if explanation.is_better:
        title += " on seeds that did not choose it"
    figure = blank_sheet(title, ax=ax)
    panels = _panels(figure, min(len(keys), MOST_PANELS) + (len(keys) == 2))
    for axes, key in zip(panels, keys, strict=False):
        _draw_setting(axes, chosen_on, key, explanation.best)
    if len(keys) == 2:
        _draw_both(figure, panels[-1], chosen_on.on_shared_seeds(), keys, explanation.best)
    legend = [
        Line2D([], [], color=CHARCOAL, marker="o", linestyle="", label="tried: mean and range over seeds"),
        Line2D([], [], color=SLATE, marker="D", linestyle="", label="the settings as they are"),
        Line2D([], [], color=TEAL, marker="*", markersize=12, linestyle="", label="the best"),
    ]
    numbers = [("sets of values", f"{len(tried)}"), ("seeds", f"{explanation.seeds}")]
    numbers += [(key, f"{value:g}") for key, value in sorted(explanation.best.items())]
    write_side(figure, legend, numbers + told_changes(explanation.changes))
    return figure


def told_changes(changes: Mapping[str, Comparison]) -> list[tuple[str, str]]:
    """Return those of the changes that stand beside a drawing, each with its interval."""
    return [
        (
            name,
            f"{change.difference:+.2g} ({change.low:+.2g} to {change.high:+.2g})",
        )
        for name, measure in (("cost", "cost"), ("time, s", "time"), ("clearance, m", "clearance"))
        if (change := changes.get(measure)) is not None
    ]


def _panels(figure: FigureBase, count: int) -> list[Axes]:
    """Return so many axes that share the sheet, beside each other and in two rows."""
    left, bottom, width, height = AREA
    columns = -(-count // 2) if count > 3 else 1 if count == 1 else 2
    rows = -(-count // columns)
    panels = []
    for number in range(count):
        row, column = divmod(number, columns)
        # The last one takes what is left of its row.
        wide = columns - column if number == count - 1 else 1
        w, h = width / columns, height / rows
        panels.append(
            figure.add_axes((left + column * w, bottom + (rows - 1 - row) * h + 0.05, wide * w - 0.05, h - 0.09))
        )
    return panels


def _draw_setting(axes: Axes, study: Study, key: str, best: dict[str, float]) -> None:
    as_they_are, as_it_is = study.of({}), study.as_it_is(key)
    axes.axhline(0.0, color=SLATE, linewidth=1.0, zorder=1)
    for values in study.tried():
        costs = np.array([cost - as_they_are[seed] for seed, cost in study.of(values).items() if seed in as_they_are])
        if len(costs) == 0:
            continue
        x = values.get(key, as_it_is)
        colour, marker, size = CHARCOAL, "o", 22.0
        if not values:
            colour, marker, size = SLATE, "D", 44.0
        elif values == best:
            colour, marker, size = TEAL, "*", 130.0
        axes.plot([x, x], [costs.min(), costs.max()], color=GREY, linewidth=1.0, zorder=2)
        axes.scatter([x], [costs.mean()], c=colour, marker=marker, s=size, zorder=4)
    axes.set_xlabel(key, fontsize=10)
    if axes.get_position().x0 < 2.0 * AREA[0]:
        axes.set_ylabel(f"cost beside as is, {study.cost_unit}", fontsize=10)
    _dress(axes, [key])


def _draw_both(figure: FigureBase, axes: Axes, study: Study, keys: list[str], best: dict[str, float]) -> None:
    as_they_are = {key: study.as_it_is(key) for key in keys}
    tried = study.tried()
    points = np.array([[(as_they_are | values)[key] for key in keys] for values in tried])
    costs = np.array([mean_cost(study, values) for values in tried])
    # One that never arrives would leave all others the same colour.
    shown = Normalize(float(costs.min()), float(np.quantile(costs, 0.9)) + 1e-9)
    across, up = points.T
    drawn = axes.scatter(across, up, c=costs, cmap=COSTS, norm=shown, s=130.0, edgecolors=CHARCOAL, zorder=3)
    if best:
        x, y = ((as_they_are | best)[key] for key in keys)
        axes.scatter([x], [y], c=TEAL, marker="*", s=150.0, zorder=4)
    axes.set_xlabel(keys[0], fontsize=10)
    axes.set_ylabel(keys[1], fontsize=10)
    _dress(axes, keys)
    bar = figure.colorbar(drawn, ax=axes, fraction=0.04, pad=0.02)
    bar.set_label(f"mean cost, {study.cost_unit}", fontsize=9)
    bar.ax.tick_params(labelsize=8)


def _dress(axes: Axes, keys: list[str]) -> None:
    """Give axes over one or two settings their scales and looks."""
    scales = ((axes.xaxis, axes.set_xscale), (axes.yaxis, axes.set_yscale))
    for key, (axis, set_scale) in zip(keys, scales, strict=False):
        if find_setting(key).span.logarithmic:
            set_scale("log")
            axis.set_major_locator(LogLocator(subs=(1.0, 2.0, 5.0)))
            axis.set_minor_formatter(NullFormatter())
        axis.set_major_formatter(FuncFormatter(lambda value, _: f"{value:g}"))
    axes.set_facecolor(PAPER)
    axes.tick_params(colors=CHARCOAL, labelsize=9)
    axes.grid(color=SAFFRON, alpha=0.15)
    for name in ("top", "right"):
        axes.spines[name].set_visible(False)
