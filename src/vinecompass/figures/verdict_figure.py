"""Two settings files beside each other, seed by seed."""

from __future__ import annotations

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D

from vinecompass.figures.canvas import CHARCOAL, GREY, PAPER, RUST, SLATE, TEAL, blank_sheet, write_side
from vinecompass.figures.study_figure import told_changes
from vinecompass.tuning import Study, verdict

__all__ = ["draw_verdict"]

TITLES = {
    "better": "The other settings are better",
    "worse": "The other settings are worse",
    "alike": "Both settings do as well",
    "open": "No difference can be told from chance",
}


def draw_verdict(study: Study, *, ax: Axes | None = None) -> FigureBase:
    """Draw the cost of each seed with the settings as they are and with the others, a line from one to the other."""
    found = verdict(study, int(study.made_of["trials"]))
    figure = blank_sheet(TITLES[found.word], ax=ax)
    axes = figure.add_axes((0.08, 0.1, 0.6, 0.8))
    before, after = study.of({}), study.of(found.values)
    costs = np.array([(before[seed], after[seed]) for seed in sorted(before.keys() & after.keys())])
    for row in costs:
        axes.plot([0, 1], row, color=TEAL if row[1] < row[0] else RUST if row[1] > row[0] else GREY, linewidth=1.2)
    for x, column in enumerate(costs.T):
        axes.scatter(np.full(len(column), x), column, color=CHARCOAL, s=18, zorder=3)
        axes.scatter([x], [column.mean()], color=SLATE, marker="D", s=70, zorder=4)
    axes.set_xlim(-0.25, 1.25)
    axes.set_xticks([0, 1], ["as they are", study.made_of["against"].split(" ")[0]], fontsize=11)
    axes.set_ylabel(f"cost, {study.cost_unit}", fontsize=10)
    axes.set_facecolor(PAPER)
    axes.tick_params(colors=CHARCOAL, labelsize=10)
    legend = [
        Line2D([], [], color=TEAL, label="a seed that costs less with the others"),
        Line2D([], [], color=RUST, label="a seed that costs more"),
        Line2D([], [], color=SLATE, marker="D", linestyle="", label="mean"),
    ]
    numbers = [("seeds", f"{len(costs)}")]
    numbers += [(key, f"{value}") for key, value in found.values.items()]
    write_side(figure, legend, numbers + told_changes(found.changes))
    return figure
