"""Which cell is first, which way is up? Draws a map with its indices: ``python examples/cells_of_a_map.py``."""

import sys
from dataclasses import replace

import numpy as np
from matplotlib.backends.backend_agg import FigureCanvasAgg
from matplotlib.figure import Figure
from matplotlib.patches import Polygon

from vinecompass import grid_from_drawing
from vinecompass.figures import save_figure
from vinecompass.geometry import transform_points

drawing = """
#####
#...#
#.  #
##.##"""
grid = replace(grid_from_drawing(drawing, cell_size=1.0, corner=(2.0, 1.0)), turn=np.radians(15.0))
print(f"shape (rows, columns) = {grid.shape}; cell [0, 0] lies at {grid.points_of([[0, 0]])[0].round(2)}")
print(f"the point 4.0, 3.0 lies in cell {grid.cells_at([[4.0, 3.0]])[0]}")

figure = Figure(figsize=(12.8, 8.0), dpi=100, facecolor="#FBF7F0")
FigureCanvasAgg(figure)
axes = figure.add_axes((0.06, 0.08, 0.6, 0.84))
colours = {True: "#2E1A2F", False: "#FBF7F0", None: "#DDD3C2"}
for row, column in np.ndindex(grid.shape):
    reading = None if grid.unknown[row, column] else bool(grid.occupied[row, column])
    corners = np.array([[column, row], [column + 1, row], [column + 1, row + 1], [column, row + 1]]) * grid.cell_size
    corners = transform_points(grid.frame, corners)
    axes.add_patch(Polygon(corners, facecolor=colours[reading], edgecolor="#A8A29A"))
    ink = "#FBF7F0" if reading else "#333333"
    axes.annotate(f"[{row}, {column}]", corners.mean(axis=0), ha="center", va="center", color=ink, rotation=15)
for x, y, name, side in ((1.6, 0.0, "columns: along x", "left"), (0.0, 1.6, "rows: along y", "right")):
    tip = transform_points(grid.frame, [[x, y]])[0]
    axes.annotate("", tip, grid.corner, arrowprops={"arrowstyle": "->", "color": "#C7643A", "linewidth": 2.5})
    axes.annotate(name, tip, xytext=(0, -16), textcoords="offset points", color="#C7643A", fontsize=11, ha=side)
axes.plot(*grid.corner, "o", color="#0F6E6E", markersize=9, zorder=5)
axes.set_facecolor("#FBF7F0")
axes.set(xlim=(-1.0, 8.0), ylim=(-0.5, 7.0), aspect="equal", xlabel="x of the site, m", ylabel="y of the site, m")
axes.axhline(0.0, color="#333333", linewidth=0.8)
axes.axvline(0.0, color="#333333", linewidth=0.8)
notes = (
    "corner = (2, 1): the outer corner of cell [0, 0],\nthe lowest, leftmost one (teal)\n\n"
    "turn = 15 degrees: heading of the columns axis\nin the site frame\n\n"
    "cell_size = 1 m\n\nlog_odds[row, column]: row 0 is at the lowest y.\n"
    "In the picture file, the last row is on top,\nso that it looks like the floor from above.\n\n"
    "Any indices outside are allowed: cells run on\npast the edge; grid.contains tells."
)
figure.text(0.69, 0.85, notes, va="top", fontsize=11.5, color="#333333", linespacing=1.4)
figure.text(0.06, 0.95, "Row 0 is at the bottom, column 0 at the left", fontsize=14.5, color="#2E1A2F", weight="bold")
save_figure(figure, sys.argv[1] if len(sys.argv) > 1 else "cells.png")
