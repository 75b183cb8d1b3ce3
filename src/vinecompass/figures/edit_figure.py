"""What edits changed on a map."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import FigureBase
from matplotlib.patches import Patch

from vinecompass.figures.canvas import BURGUNDY, SLATE, TEAL, draw_grid, draw_zones, new_sheet, write_side
from vinecompass.grids import Grid, Zone

__all__ = ["draw_edits"]


def draw_edits(before: Grid, after: Grid, zones: Sequence[Zone], *, ax: Axes | None = None) -> FigureBase:
    """Draw the map after its edits, the cells that changed (if it kept its raster), and its zones."""
    same = (
        before.shape == after.shape and np.allclose(before.frame, after.frame) and before.cell_size == after.cell_size
    )
    changes, shares = [], []
    if same:
        for name, colour in (("occupied", BURGUNDY), ("free", TEAL), ("unknown", SLATE)):
            cells = getattr(after, name) & ~getattr(before, name)
            if cells.any():
                changes.append((f"now {name}", colour, after.points_of(np.argwhere(cells))))
                shares.append(f"{cells.sum() * after.cell_size**2:.2f} m2 became {name}")
    size = f"{after.shape[1] * after.cell_size:.1f} m x {after.shape[0] * after.cell_size:.1f} m"
    figure, axes = new_sheet(", ".join(shares) or f"The map as edited: {size} in cells of {after.cell_size:g} m", ax=ax)
    legend: list = list(draw_grid(axes, after))
    for label, colour, points in changes:
        axes.scatter(points[:, 0], points[:, 1], s=4.0, marker="s", color=colour, linewidths=0.0, zorder=7)
        legend.append(Patch(facecolor=colour, label=label))
    legend += draw_zones(axes, zones)
    write_side(
        figure,
        legend,
        [
            ("size", size),
            ("cell", f"{after.cell_size:g} m"),
            ("turn", f"{np.degrees(after.turn):.2f} deg"),
            ("free floor", f"{after.free.sum() * after.cell_size**2:.1f} m2"),
            ("zones", f"{len(zones)}"),
        ],
    )
    return figure
