"""Where floor is narrow between two parts of it: by how it hangs together, not by how near its sides are."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vinecompass.costs import CostMap
from vinecompass.planning.narrow.kernels import thin

__all__ = ["Neck", "find_necks"]

ALL_ROUND = np.ones((3, 3), bool)
RISE, RISE_CELLS = 0.05, 1.5
"""Metres, or cells, of clearance that floor gains on both sides of a neck, whichever is more: one cell is noise."""
LEAST_FLOOR = 0.3
"""Square metres of open floor that a part must have to be one."""
AS_NARROW = 1.5
"""Cells of clearance more than at the neck within which the floor about it is as narrow."""


@dataclass(frozen=True)
class Neck:
    """A place at which floor is narrow.

    Parameters
    ----------
    cells : array, (N, 2)
        The line along its middle, from one part of the floor to the other.
    narrowest : int
        Which of them has the least clearance.
    length : float
        Over how many metres it is as narrow.
    """

    cells: NDArray[np.int64]
    narrowest: int
    length: float


def find_necks(costmap: CostMap, least: float, widest: float) -> list[Neck]:
    """Find where floor with a clearance of `least` up to `widest` metres joins two parts of the floor.

    Parts are where clearance is greater, or rises again behind a neck. All floor that joins nothing, as in corners and
    along walls, is thinned away, what is nearest to closed cells first (distance-ordered homotopic thinning: Pudney,
    1998); what is left are lines through all necks.
    """
    clearance = costmap.clearance
    open_floor = (clearance >= least) & ~costmap.forbidden
    parts = _parts(costmap, open_floor, least, widest)
    floor = np.pad(np.where(parts, 2, open_floor).astype(np.uint8), 1)
    rows, columns = np.nonzero(floor == 1)
    order = np.argsort(clearance[rows - 1, columns - 1], kind="stable")
    rows, columns = rows[order], columns[order]
    count = thin(floor, rows, columns)
    lines = np.zeros(clearance.shape, bool)
    lines[rows[:count] - 1, columns[:count] - 1] = True
    # Where three lines meet, each of them ends.
    crossing = lines & (ndimage.convolve(lines.astype(np.uint8), ALL_ROUND.astype(np.uint8), mode="constant") > 3)
    labels, _ = ndimage.label(lines & ~crossing, ALL_ROUND)
    necks: list[Neck] = []
    for label, window in enumerate(ndimage.find_objects(labels), start=1):
        cells = np.argwhere(labels[window] == label) + [part.start for part in window]
        necks += _necks_along(costmap, _in_order(cells), widest)
    return necks


def _parts(costmap: CostMap, open_floor: NDArray[np.bool_], least: float, widest: float) -> NDArray[np.bool_]:
    """Tell which cells lie in the parts of the floor: the wide ones, and those that widen behind a neck."""
    clearance, cell = costmap.clearance, costmap.grid.cell_size
    parts = open_floor & (clearance >= widest)
    rise = _rise(costmap)
    for level in np.arange(widest - rise, least, -rise / 2.0):
        labels, count = ndimage.label(open_floor & (clearance >= level), ALL_ROUND)
        alone = np.ones(count + 1, bool)
        alone[0], alone[labels[parts]] = False, False
        left = alone[labels]
        numbers, room = labels[left], clearance[left]
        peaks, areas = np.zeros(count + 1), np.bincount(numbers, minlength=count + 1) * cell**2
        np.maximum.at(peaks, numbers, room)
        widens = (peaks >= level + rise) & (areas >= LEAST_FLOOR)
        parts[left] = widens[numbers] & (room >= peaks[numbers] - 0.5 * cell)
    return parts


def _rise(costmap: CostMap) -> float:
    return max(RISE, RISE_CELLS * costmap.grid.cell_size)


def _in_order(cells: NDArray[np.int64]) -> NDArray[np.int64]:
    """Return the cells of a line ``(N, 2)`` from one end of it to the other."""
    left = {tuple(cell): None for cell in cells.tolist()}
    ends = [cell for cell in left if sum(near in left for near in _around(cell)) <= 1]
    line = [ends[0] if ends else next(iter(left))]
    del left[line[0]]
    while step := next((near for near in _around(line[-1]) if near in left), None):
        line.append(step)
        del left[step]
    return np.array(line)


def _around(cell: tuple[int, int]) -> list[tuple[int, int]]:
    """Return the neighbours of a cell, straight ones first."""
    row, column = cell
    straight = [(row, column + 1), (row + 1, column), (row, column - 1), (row - 1, column)]
    return straight + [(row + i, column + j) for i in (-1, 1) for j in (-1, 1)]


def _necks_along(costmap: CostMap, cells: NDArray[np.int64], widest: float) -> list[Neck]:
    """Return the places along a line at which it is narrow: more than one if it widens between them."""
    side, room, rise = costmap.grid.cell_size, costmap.clearance[tuple(cells.T)], _rise(costmap)
    beyond = [-widest - rise]
    # Its import takes as long as all others together, and few commands come by here.
    from scipy.signal import find_peaks

    lows, _ = find_peaks(np.concatenate([beyond, -room, beyond]), prominence=rise)
    necks: list[Neck] = []
    middle = 0.5 * len(room)
    # Of places equally narrow that in the middle counts, and another only if it widens between them.
    for low in sorted((lows - 1).tolist(), key=lambda at: (float(room[at]), abs(at - middle))):
        between = [room[min(low, other.narrowest) : max(low, other.narrowest)].max() for other in necks]
        if any(most < room[low] + rise for most in between):
            continue
        narrow, _ = ndimage.label(room <= room[low] + AS_NARROW * side)
        alike = np.flatnonzero(narrow == narrow[low])
        first, last = cells[alike[0]], cells[alike[-1]]
        necks.append(Neck(cells, low, float(np.hypot(*(last - first))) * side))
    return necks
