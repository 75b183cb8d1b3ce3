"""Why there is no way: the narrowest place of the widest way."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy import ndimage

from vinecompass.costs import CostMap
from vinecompass.planning.grid_search import find_grid_path

__all__ = ["Bottleneck", "find_bottleneck"]


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
    path = find_grid_path(np.where(clearance >= lowest, 1.0, np.inf), start, goal)
    along = clearance[path.cells[:, 0], path.cells[:, 1]]
    narrowest = path.cells[int(np.argmin(along))]
    x, y = costmap.grid.points_of(narrowest[None])[0]
    return Bottleneck(float(x), float(y), free_width(costmap, narrowest), float(along.min()))


def free_width(costmap: CostMap, cell: np.ndarray) -> float:
    """Return the free width across a cell: from the nearest forbidden cell straight over to the one opposite, m."""
    reach = int(costmap.clearance[tuple(cell)] / costmap.grid.cell_size) + 2
    low = np.maximum(cell - reach, 0)
    block = costmap.forbidden[low[0] : cell[0] + reach + 1, low[1] : cell[1] + reach + 1]
    offsets = np.argwhere(block) + low - cell
    nearest = offsets[int(np.argmin(np.hypot(*offsets.T)))]
    distance = float(np.hypot(*nearest))
    # Straight over from there, a quarter of a cell at a time, until the other side or the map's edge.
    ahead = cell - nearest / distance * np.arange(0.125, 4.0 * reach, 0.25)[:, None]
    inside = costmap.grid.contains(np.rint(ahead).astype(np.int64))
    rows, columns = np.rint(ahead[inside]).astype(np.int64).T
    blocked = np.flatnonzero(costmap.forbidden[rows, columns])
    opposite = 0.25 * float(blocked[0]) + 0.5 if len(blocked) else distance
    # Both distances are between centres: half a cell on each side is not free.
    return (distance + opposite - 1.0) * costmap.grid.cell_size


def _joined(open_cells: np.ndarray, start: tuple[int, int], goal: tuple[int, int]) -> bool:
    labels, _ = ndimage.label(open_cells)
    return bool(labels[start] != 0 and labels[start] == labels[goal])
