"""How wide the floor is across a point, to a fraction of a cell."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vinecompass.costs import CostMap

__all__ = ["FreeWidth", "free_width"]

DIRECTIONS = np.linspace(0.0, np.pi, 60, endpoint=False)
"""In which the floor is measured, radians; the narrowest counts."""
EVERY = 0.5
"""Cells between two looks along them; a side is found between two by interpolation."""
OPEN_AT_MOST = 0.499
"""Probability that floor which may be touched counts with at most."""
NEXT_TO = 1.0
"""Cells about the point that are looked at as well: the middle of an even number of cells lies between two."""


@dataclass(frozen=True)
class FreeWidth:
    """The free width at a point, m; across which heading in the grid's frame, radians; and what closes its two sides.

    `sides` ``(0 to 2, 2)`` are row and column of the forbidden cells that it ends at; fewer where it ends at the map's
    edge.
    """

    width: float
    heading: float
    sides: NDArray[np.int64]


def free_width(costmap: CostMap, cell: NDArray[np.int64]) -> FreeWidth:
    """Measure the floor across a cell: the shortest straight line through it, or a point beside it, from side to side.

    Where the map is not sure, a side lies where its probability, between the middles of cells, comes to one half.
    """
    grid = costmap.grid
    reach = int(2.5 * costmap.clearance[tuple(cell)] / grid.cell_size) + 4
    low = cell - reach
    closed = _closed_share(costmap, low, 2 * reach + 1)
    beside = np.arange(-NEXT_TO, NEXT_TO + 0.01, 0.5)
    points = np.stack(np.meshgrid(beside, beside, indexing="ij"), axis=-1).reshape(-1, 2)
    steps = np.arange(0.0, reach - NEXT_TO, EVERY)
    ahead = np.stack([np.sin(DIRECTIONS), np.cos(DIRECTIONS)], axis=-1)
    best = FreeWidth(np.inf, 0.0, np.zeros((0, 2), np.int64))
    inside = ndimage.map_coordinates(closed, (points + reach).T, order=1) < 0.5
    for point in points[inside]:
        lines = point + reach + steps[:, None] * np.concatenate([ahead, -ahead])[:, None]
        share = ndimage.map_coordinates(closed, lines.reshape(-1, 2).T, order=1).reshape(len(lines), -1)
        shut = share >= 0.5
        first = np.where(shut.any(axis=1), shut.argmax(axis=1), len(steps) - 1)
        after, before = (share[np.arange(len(lines)), first - back] for back in (0, 1))
        ways = EVERY * (first - (after - 0.5) / np.maximum(after - before, 1e-9))
        both = ways[: len(ahead)] + ways[len(ahead) :]
        k = int(np.argmin(both))
        width = float(both[k]) * grid.cell_size
        if width < best.width:
            # A look farther, so that it lies within the cell that closes it.
            ends = lines[[k, k + len(ahead)], np.minimum(first[[k, k + len(ahead)]] + 1, len(steps) - 1)]
            sides = np.rint(ends).astype(np.int64) + low
            best = FreeWidth(width, float(DIRECTIONS[k]), sides[grid.contains(sides)])
    return best


def _closed_share(costmap: CostMap, low: NDArray[np.int64], side: int) -> NDArray[np.float64]:
    """Return how surely each cell of a square block is forbidden, 0 to 1; below one half where it is not."""
    first, last = np.maximum(low, 0), np.minimum(low + side, costmap.grid.shape)
    block, within = (np.s_[a[0] : b[0], a[1] : b[1]] for a, b in ((first, last), (first - low, last - low)))
    log_odds, forbidden = costmap.grid.log_odds[block].astype(float), costmap.forbidden[block]
    occupied = 1.0 / (1.0 + np.exp(-log_odds))
    # A zone or an obstacle closes free floor, and floor never seen is closed, for certain.
    certain = forbidden & (costmap.grid.free[block] | (log_odds == 0.0))
    share = np.full((side, side), 1.0 if costmap.closed_beyond else 0.0)
    share[within] = np.where(certain, 1.0, np.where(forbidden, occupied, np.minimum(occupied, OPEN_AT_MOST)))
    return share
