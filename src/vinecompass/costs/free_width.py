"""How wide the floor is across a cell."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs.costmap import CostMap

__all__ = ["free_width"]


def free_width(costmap: CostMap, cell: NDArray[np.int64]) -> tuple[float, NDArray[np.int64]]:
    """Return the free width across a cell: from the nearest forbidden cell straight over to the one opposite, m.

    Returns
    -------
    width : float
    sides : array, (1 or 2, 2)
        Row and column of those two cells; only the nearest, if there is none opposite.
    """
    nearest = costmap.nearest_forbidden(cell)
    if nearest is None:
        return float("inf"), np.zeros((0, 2), np.int64)
    offset = nearest - cell
    distance = float(np.hypot(*offset))
    reach = int(distance) + 2
    # Straight over from there, a quarter of a cell at a time, until the other side or the map's edge.
    ahead = cell - offset / max(distance, 1.0) * np.arange(0.125, 4.0 * reach, 0.25)[:, None]
    ahead = np.rint(ahead).astype(np.int64)
    ahead = ahead[costmap.grid.contains(ahead)]
    blocked = np.flatnonzero(costmap.forbidden[ahead[:, 0], ahead[:, 1]])
    opposite = 0.25 * float(blocked[0]) + 0.5 if len(blocked) else distance
    sides = np.stack([nearest, ahead[blocked[0]]]) if len(blocked) else nearest[None]
    # Both distances are between centres: half a cell on each side is not free.
    return (distance + opposite - 1.0) * costmap.grid.cell_size, sides
