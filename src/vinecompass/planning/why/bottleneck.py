"""Why there is no way: the narrowest place of the widest way."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from vinecompass.costs import CostMap
from vinecompass.planning.narrow.free_width import free_width
from vinecompass.planning.search.grid_search import find_grid_path

__all__ = ["Bottleneck", "find_bottleneck"]


DETOUR = 1000.0
"""Cells of detour that the way makes rather than pass one cell as narrow as the bottleneck."""


@dataclass(frozen=True)
class Bottleneck:
    """The narrowest place of the widest way: where it is in the site frame, how wide, and its clearance, all in m."""

    x: float
    y: float
    width: float
    clearance: float


def find_bottleneck(costmap: CostMap, start: tuple[int, int], goal: tuple[int, int]) -> Bottleneck | None:
    """Find the narrowest place of the widest way between two cells; None if nothing but forbidden floor joins them.

    The width is found by halving: the greatest clearance whose cells still join start and goal.
    """
    clearance = costmap.clearance
    lowest, highest = costmap.grid.cell_size / 2.0, float(min(clearance[start], clearance[goal]))
    if not _joined(clearance >= lowest, start, goal):
        return None
    while highest - lowest > costmap.grid.cell_size / 10.0:
        middle = 0.5 * (lowest + highest)
        if _joined(clearance >= middle, start, goal):
            lowest = middle
        else:
            highest = middle
    # Through the bottleneck the way must, and anywhere else it shall not hug a wall that closely.
    prices = np.where(clearance >= lowest, np.where(clearance >= highest, 1.0, DETOUR), np.inf)
    path = find_grid_path(prices, start, goal)
    along = clearance[path.cells[:, 0], path.cells[:, 1]]
    narrowest = path.cells[int(np.argmin(along))]
    x, y = costmap.grid.points_of(narrowest[None])[0]
    return Bottleneck(float(x), float(y), free_width(costmap, narrowest).width, float(along.min()))


def _joined(open_cells: np.ndarray, start: tuple[int, int], goal: tuple[int, int]) -> bool:
    labels, _ = ndimage.label(open_cells)
    return bool(labels[start] != 0 and labels[start] == labels[goal])
