"""Meetings with people, many over each other: who was where when."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.collections import LineCollection
from matplotlib.colors import LinearSegmentedColormap
from matplotlib.figure import FigureBase
from matplotlib.lines import Line2D
from matplotlib.patches import Patch

from vinecompass.figures.canvas import (
    BURGUNDY,
    CHARCOAL,
    CORAL,
    RUST,
    STRAW,
    TEAL,
    add_side_axes,
    draw_grid,
    draw_robot,
    new_sheet,
    write_side,
)
from vinecompass.grids import Grid
from vinecompass.rehearsal import Rehearsal

__all__ = ["draw_meetings"]

TIMES = LinearSegmentedColormap.from_list("times", [STRAW, RUST, BURGUNDY])
SPACE = 1.0
"""Metres of personal space that is drawn and measured."""


def draw_meetings(grid: Grid, rehearsals: Sequence[Rehearsal], *, ax: Axes | None = None) -> FigureBase:
    """Draw the ways of robots (lines) and people (dots) of many rehearsals over each other, coloured by time.

    Below, how near the body came to a person's middle in each of them, and when.
    """
    gaps = [each.gaps_to_people().min(axis=1, initial=np.inf) for each in rehearsals]
    nearest = [float(gap.min()) for gap in gaps]
    inside = sum(gap < SPACE for gap in nearest)
    figure, axes = new_sheet(
        f"{len(rehearsals)} meetings: the body came within {SPACE:g} m of a person in {inside}, "
        f"{min(nearest):.2f} m at the nearest",
        ax=ax,
    )
    legend: list[Line2D | Patch] = list(draw_grid(axes, grid))
    last = max(float(each.track.t[-1]) for each in rehearsals)
    for each in rehearsals:
        truth = each.run.truth
        assert truth is not None
        poses, t = truth.at(each.track.t)[:, :2], each.track.t
        lines = np.stack([poses[:-1], poses[1:]], axis=1)
        axes.add_collection(LineCollection(list(lines), colors=TIMES(t[1:] / last), linewidths=1.6, zorder=6))
        every = slice(None, None, 5)
        for number in range(each.people.shape[1]):
            walk = each.people[every, number, :2]
            axes.scatter(walk[:, 0], walk[:, 1], s=14, c=TIMES(t[every] / last), edgecolors="none", zorder=5)
    first = rehearsals[0]
    assert first.run.truth is not None
    legend.append(draw_robot(axes, first.run.robot, first.run.truth.poses[0], label="robot at the start"))
    legend.append(Line2D([], [], color=RUST, linewidth=1.6, label="robots"))
    legend.append(Line2D([], [], color=RUST, marker="o", linestyle="", markersize=4, label="people"))
    for share in (0.0, 0.5, 1.0):
        legend.append(Patch(facecolor=TIMES(share), label=f"at {share * last:.0f} s"))
    states = [" → ".join(entry.state for entry in each.log.encounters if entry.state != "none") for each in rehearsals]
    common = max(set(states), key=states.count)
    write_side(
        figure,
        legend,
        [
            ("meetings", f"{len(rehearsals)}"),
            ("contacts", f"{sum(each.contacts for each in rehearsals)}"),
            ("nearest, median", f"{np.median(nearest):.2f} m"),
            ("time, median", f"{np.median([each.track.t[-1] for each in rehearsals]):.0f} s"),
        ],
    )
    figure.text(0.05, 0.012, f"most often: {common}"[:150], fontsize=9, color=CHARCOAL)
    side = add_side_axes(figure, 0.09, 0.2, xlabel="time, s", ylabel="body to person, m")
    for each, gap in zip(rehearsals, gaps, strict=True):
        side.plot(each.track.t, gap, color=TEAL, linewidth=0.8, alpha=0.6)
    side.axhline(SPACE, color=CORAL, linewidth=1.0)
    side.set_ylim(0.0, 4.0)
    side.set_title("distance; the line is personal space", fontsize=9, loc="left")
    return figure
