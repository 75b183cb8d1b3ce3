"""What every figure shares: the sheet, the colours, and how maps, robots and tracks are drawn on it."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from matplotlib.axes import Axes
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.colors import to_rgba
from matplotlib.figure import Figure, FigureBase, SubFigure
from matplotlib.lines import Line2D
from matplotlib.patches import Patch, Polygon, Rectangle
from matplotlib.text import Text
from matplotlib.transforms import Affine2D
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.files import MADE_BY, atomic_write, check_suffix
from vinecompass.geometry import transform_points
from vinecompass.grids import Grid, Zone, strongest
from vinecompass.robot import Robot

__all__ = [
    "AUBERGINE",
    "BURGUNDY",
    "CHARCOAL",
    "CORAL",
    "GREY",
    "OLIVE",
    "PAPER",
    "RUST",
    "SAFFRON",
    "SAND",
    "SIDE",
    "SLATE",
    "STRAW",
    "TEAL",
    "add_side_axes",
    "blank_sheet",
    "draw_grid",
    "draw_image",
    "draw_robot",
    "draw_scale_bar",
    "draw_truth",
    "draw_zones",
    "figure_bytes",
    "new_sheet",
    "save_figure",
    "strongest",
    "write_side",
]

PAPER, SAND, AUBERGINE = "#FBF7F0", "#DDD3C2", "#2E1A2F"
STRAW, RUST, BURGUNDY = "#F2D98B", "#C7643A", "#6B1E3A"
SLATE, OLIVE, TEAL = "#3B6FB5", "#7A9A3B", "#0F6E6E"
SAFFRON, CORAL = "#E39B1D", "#E06C5A"
CHARCOAL, GREY = "#333333", "#A8A29A"

MOST_CELLS = 1000
"""Cells a side that are drawn as they are: of a larger map, several make a pixel."""
SIDE = 0.745
"""Where the column for legend and numbers begins, as a share of the sheet's width."""
LEAST_ABOVE_CURVE = 0.285
"""Where the last of the numbers stands at least, as a share of its height, as there may be a curve below."""


def blank_sheet(title: str, *, ax: Axes | None = None) -> FigureBase:
    """Return a sheet with a title that states the finding: of 1280 x 800 pixels, or in the place of axes."""
    figure = _new_figure() if ax is None else _in_place_of(ax)
    figure.text(0.03, 0.955, title, fontsize=14.5, fontweight="bold", color=AUBERGINE, va="center")
    return figure


def _new_figure() -> Figure:
    figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor=PAPER)
    FigureCanvasAgg(figure)
    return figure


def _in_place_of(ax: Axes) -> SubFigure:
    """Return a part of a figure where axes were: a sheet has several axes of its own, and a legend beside them."""
    place = ax.get_subplotspec()
    if place is None:
        raise InputError("has no place of its own", key="ax", expected="axes that `subplots` or `add_subplot` made")
    parent = ax.get_figure()
    assert parent is not None
    ax.remove()
    return parent.add_subfigure(place, facecolor=PAPER)


def new_sheet(title: str, *, ax: Axes | None = None) -> tuple[FigureBase, Axes]:
    """Return a sheet with one map axes on its left, under a title that states the finding."""
    figure = blank_sheet(title, ax=ax)
    axes = figure.add_axes((0.05, 0.07, SIDE - 0.075, 0.845))
    axes.set_aspect("equal", adjustable="box", anchor="NW")
    axes.set_facecolor(PAPER)
    axes.set_xlabel("x, m")
    axes.set_ylabel("y, m")
    axes.tick_params(colors=CHARCOAL, labelsize=9)
    for spine in axes.spines.values():
        spine.set_color(GREY)
    return figure, axes


def add_side_axes(figure: FigureBase, bottom: float, height: float, *, xlabel: str, ylabel: str) -> Axes:
    """Add a small axes for a curve in the column on the right."""
    axes = figure.add_axes((SIDE + 0.045, bottom, 0.195, height))
    axes.set_facecolor(PAPER)
    axes.set_xlabel(xlabel, fontsize=9)
    axes.set_ylabel(ylabel, fontsize=9)
    axes.tick_params(labelsize=8)
    for name in ("top", "right"):
        axes.spines[name].set_visible(False)
    return axes


def write_side(figure: FigureBase, handles: Sequence[Line2D | Patch], numbers: Sequence[tuple[str, str]]) -> None:
    """Fill the column on the right: the legend on top, and below it the numbers, a name and a value each."""
    legend = figure.legend(
        handles=handles,
        loc="upper left",
        bbox_to_anchor=(SIDE, 0.925),
        frameon=False,
        fontsize=10,
        handlelength=2.0,
        labelspacing=0.6,
        borderaxespad=0.0,
    )
    legend.set_in_layout(False)
    # As far below the legend as leaves room for a curve below; nearer, where there are many.
    last = LEAST_ABOVE_CURVE + 0.031 * (len(numbers) - 1)
    top = max(0.885 - 0.0345 * len(handles), min(last, 0.905 - 0.029 * len(handles)))
    for line, (name, value) in enumerate(numbers):
        y = top - 0.031 * line
        figure.text(SIDE + 0.005, y, name, fontsize=10, color=CHARCOAL, va="center")
        figure.text(0.985, y, value, fontsize=10, color=CHARCOAL, va="center", ha="right", fontweight="bold")


def draw_image(ax: Axes, grid: Grid, colours: NDArray[np.float32]) -> None:
    """Lay an image ``(rows, columns, 4)`` over the floor that a grid covers, with the grid's turn."""
    rows, columns = grid.shape
    width, height = columns * grid.cell_size, rows * grid.cell_size
    image = ax.imshow(colours, origin="lower", extent=(0.0, width, 0.0, height), interpolation="nearest", zorder=1)
    place = Affine2D().rotate(grid.turn).translate(*grid.corner)
    image.set_transform(place + ax.transData)
    (left, bottom), (right, top) = grid.corner_points.min(0), grid.corner_points.max(0)
    ax.add_patch(
        Rectangle(
            (left - 1.0, bottom - 1.8),
            right - left + 2.0,
            top - bottom + 2.8,
            facecolor=SAND,
            edgecolor="#C9BCA6",
            hatch="////",
            linewidth=0.0,
            zorder=0,
        )
    )
    ax.set_xlim(left - 1.0, right + 1.0)
    ax.set_ylim(bottom - 1.8, top + 1.0)
    draw_scale_bar(ax)


def draw_grid(ax: Axes, grid: Grid) -> list[Patch]:
    """Draw a map: free is paper, occupied aubergine, unknown hatched sand. Returns its legend."""
    every = -(-max(grid.shape) // MOST_CELLS)
    readings = strongest(np.where(grid.occupied, 2, grid.free.astype(np.uint8)).astype(np.uint8), every)
    colours = np.array([to_rgba(SAND, 0.0), to_rgba(PAPER), to_rgba(AUBERGINE)], np.float32)[readings]
    coarse = Grid(np.zeros(readings.shape, np.float32), grid.cell_size * every, grid.corner, grid.turn)
    draw_image(ax, coarse, colours)
    return [
        Patch(facecolor=AUBERGINE, label="occupied"),
        Patch(facecolor=PAPER, edgecolor=GREY, label="free"),
        Patch(facecolor=SAND, edgecolor="#C9BCA6", hatch="////", linewidth=0.0, label="unknown"),
    ]


def draw_zones(ax: Axes, zones: Sequence[Zone]) -> list[Patch]:
    """Draw zones with their names, closed ones hatched. Returns their legend."""
    for zone in zones:
        closed = zone.kind == "closed"
        ax.add_patch(
            Polygon(
                zone.polygon,
                closed=True,
                facecolor=BURGUNDY if closed else STRAW,
                alpha=0.35,
                edgecolor=BURGUNDY,
                hatch="xx" if closed else None,
                zorder=4,
            )
        )
        ax.annotate(zone.name, np.mean(zone.polygon, axis=0), ha="center", va="center", fontsize=8, zorder=8)
    return [Patch(facecolor=STRAW, edgecolor=BURGUNDY, alpha=0.6, label="zones")] if zones else []


def draw_robot(ax: Axes, robot: Robot, pose: NDArray[np.float64], *, label: str = "robot") -> Line2D:
    """Draw the body's outline at a pose with a nose that shows its heading. Returns its legend."""
    outline = transform_points(pose, robot.body.polygon)
    ax.add_patch(Polygon(outline, closed=True, fill=False, edgecolor=CHARCOAL, linewidth=1.6, zorder=8))
    nose = transform_points(pose, [[0.0, 0.0], [robot.body.outer_radius * 1.5, 0.0]])
    ax.plot(*nose.T, color=CHARCOAL, linewidth=1.6, zorder=8, solid_capstyle="round")
    return Line2D([], [], color=CHARCOAL, linewidth=1.6, label=label)


def draw_truth(ax: Axes, poses: NDArray[np.float64]) -> Line2D:
    """Draw the true way as a dashed black line. Returns its legend."""
    ax.plot(poses[:, 0], poses[:, 1], color="black", linestyle=(0, (4, 2.5)), linewidth=1.2, zorder=7)
    return Line2D([], [], color="black", linestyle=(0, (4, 2.5)), linewidth=1.2, label="truth")


def draw_scale_bar(ax: Axes, length: float = 5.0) -> None:
    """Draw a bar of so many metres (1 m on a small map) into the lower right corner of the axes as they are now."""
    left, right = ax.get_xlim()
    bottom, top = ax.get_ylim()
    if right - left < 3.0 * length:
        length = 1.0
    x, y = right - length - 0.03 * (right - left), bottom + 0.022 * (top - bottom)
    ax.plot([x, x + length], [y, y], color=CHARCOAL, linewidth=3.0, solid_capstyle="butt", zorder=9)
    ax.text(
        x + length / 2.0,
        y + 0.008 * (top - bottom),
        f"{length:g} m",
        ha="center",
        va="bottom",
        fontsize=9,
        zorder=9,
        bbox={"facecolor": PAPER, "edgecolor": "none", "pad": 1.0, "alpha": 0.8},
    )


def save_figure(figure: FigureBase, path: str | Path) -> Path:
    """Write a figure as PNG, atomically and with the same bytes each time; of a part of one, the whole."""
    path = check_suffix(path, ".png")
    return atomic_write(path, figure_bytes(figure))


def figure_bytes(figure: FigureBase) -> bytes:
    """Return a figure, or the one that a part belongs to, as PNG."""
    buffer, whole = io.BytesIO(), figure.figure
    assert isinstance(whole, Figure)
    for text in whole.findobj(Text):
        # A name with two dollars in it is no formula.
        text.set_parse_math(False)
    whole.savefig(buffer, format="png", facecolor=whole.get_facecolor(), metadata={"Software": MADE_BY})
    return buffer.getvalue()
