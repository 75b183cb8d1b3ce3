"""What changed between two maps of one floor."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy import ndimage

from vinecompass.door import checked
from vinecompass.geometry import inverse
from vinecompass.grids import Grid, clearance, in_frame
from vinecompass.judging.alignment import Alignment, align_maps

__all__ = ["MapComparison", "Thing", "compare_maps"]

SAME_WALL_WITHIN = 0.15
"""Metres within which a wall counts as the same."""
SMALLEST = 0.25
"""Metres across below which a difference is noise."""
ONE_THING_WITHIN = 0.2
"""Metres between cells that belong to one thing."""
MOVED_REACH, SIZE_ALIKE = 5.0, 0.4
"""Metres within which a thing may have been moved, and by what share its size may seem to differ, for it is seen from
another side."""


@dataclass(frozen=True)
class Thing:
    """Something that one map shows and the other does not.

    Parameters
    ----------
    kind : str
        ``new``, ``vanished`` or ``moved``.
    polygon : list of (x, y)
        The hull of what is seen of it, in the site frame of the map judged, m. For a moved one, where it is now.
    area_m2 : float
        Of the hull.
    moved_from : (x, y) or None
        The middle of where it was; only for a moved one.
    """

    kind: str
    polygon: list[tuple[float, float]]
    area_m2: float
    moved_from: tuple[float, float] | None = None

    @property
    def middle(self) -> tuple[float, float]:
        """x and y of the middle of the hull, m."""
        x, y = np.mean(self.polygon, axis=0)
        return float(x), float(y)


@dataclass(frozen=True)
class MapComparison:
    """How a map agrees with another of the same floor.

    Parameters
    ----------
    alignment : Alignment
        Of the other map on the one judged.
    other : Grid
        The other map, laid on the one judged.
    matched, matched_other : float
        Share of the walls of each, where both maps observed the floor, that the other shows within 0.15 m.
    things : list of Thing
        What changed, the largest first.
    """

    alignment: Alignment
    other: Grid
    matched: float
    matched_other: float
    things: list[Thing]


@checked
def compare_maps(grid: Grid, other: Grid) -> MapComparison:
    """Lay another map on one and tell what changed between them; raise `InputError` if they do not fit.

    Only floor that both maps observed counts: what one of them never saw is not new, and not gone.
    """
    alignment = align_maps(other, grid)
    laid = in_frame(other, inverse(alignment.pose))
    new, matched = _missing(grid, laid)
    gone, matched_other = _missing(laid, grid)
    here, there = _things(grid, new, "new"), _things(laid, gone, "vanished")
    things = sorted(_moved(here, there), key=lambda thing: -thing.area_m2)
    return MapComparison(alignment, laid, matched, matched_other, things)


def _missing(grid: Grid, other: Grid) -> tuple[NDArray[np.bool_], float]:
    """Return the occupied cells of a grid that the other saw as free, and the share of those it saw that match."""
    distance = clearance(other.occupied, other.cell_size)
    cells, points = np.argwhere(grid.occupied), grid.occupied_points()
    near = other.values_at(points, distance <= SAME_WALL_WITHIN, outside=False)
    known = other.values_at(points, ~other.unknown, outside=False)
    missing = np.zeros(grid.shape, dtype=bool)
    missing[tuple(cells[known & ~near].T)] = True
    # A wall is known where it is seen, or where the floor beside it is.
    counted = known | near
    return missing, float(np.mean(near[counted])) if counted.any() else 0.0


def _things(grid: Grid, cells: NDArray[np.bool_], kind: str) -> list[Thing]:
    """Return the hulls of cells that lie near each other."""
    reach = max(int(np.ceil(0.5 * ONE_THING_WITHIN / grid.cell_size)), 1)
    labels, count = ndimage.label(ndimage.binary_dilation(cells, iterations=reach), structure=np.ones((3, 3)))
    things = []
    for number in range(1, count + 1):
        points = grid.points_of(np.argwhere((labels == number) & cells))
        hull = shapely.MultiPoint(points).convex_hull.buffer(0.5 * grid.cell_size, cap_style="square")
        if np.ptp(points, axis=0).max() >= SMALLEST:
            corners = [(round(float(x), 3), round(float(y), 3)) for x, y in list(hull.exterior.coords)[:-1]]
            things.append(Thing(kind, corners, round(float(hull.area), 3)))
    return things


def _moved(here: list[Thing], there: list[Thing]) -> list[Thing]:
    """Pair what is new with what is gone, where they are alike and near, the nearest first."""
    pairs = sorted(
        (float(np.hypot(*np.subtract(new.middle, gone.middle))), i, j)
        for i, new in enumerate(here)
        for j, gone in enumerate(there)
        if abs(new.area_m2 - gone.area_m2) <= SIZE_ALIKE * max(new.area_m2, gone.area_m2)
    )
    moved: dict[int, int] = {}
    for away, i, j in pairs:
        if away <= MOVED_REACH and i not in moved and j not in moved.values():
            moved[i] = j
    things = [
        Thing("moved", new.polygon, new.area_m2, there[moved[i]].middle) if i in moved else new
        for i, new in enumerate(here)
    ]
    return things + [gone for j, gone in enumerate(there) if j not in moved.values()]
