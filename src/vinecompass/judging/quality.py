"""What a map alone tells about how good it is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.grids import Grid, open_edges

__all__ = ["MapQuality", "Spot", "judge_map"]

DOUBLE_GAP = 0.4
"""Metres between two lines of a wall drawn twice, at most."""
SHORTEST_SPOT = 0.5
"""Metres that a double line or an open edge must be long to count."""
UNSURE = 2.0
"""Log-odds below which a cell is decided, but hardly (a probability of 0.88)."""


@dataclass(frozen=True)
class Spot:
    """A place that needs another look.

    Parameters
    ----------
    kind : str
        ``open edge``: free floor that ends in the unknown; ``double line``: a wall drawn twice, or a
        gap behind furniture that is too narrow to be floor.
    x, y : float
        Its middle in the site frame, m.
    length : float
        Metres.
    """

    kind: str
    x: float
    y: float
    length: float


@dataclass(frozen=True)
class MapQuality:
    """A report on a map without truth.

    Parameters
    ----------
    wall_thickness : float
        Mean, m. A wall seen sharply is one or two cells thick.
    unknown_share : float
        Share of the floor that free floor encloses, but that was never decided.
    unsure_share : float
        Share of the observed cells that are hardly decided: a map of much contrast has few.
    spots : list of Spot
        The longest first.
    """

    wall_thickness: float
    unknown_share: float
    unsure_share: float
    spots: list[Spot]

    @property
    def closed(self) -> bool:
        """Whether no free floor ends in the unknown for half a metre or more."""
        return not any(spot.kind == "open edge" for spot in self.spots)


@checked
def judge_map(grid: Grid) -> MapQuality:
    """Judge a map by itself; raise `InputError` if it shows no wall or no free floor."""
    if not grid.occupied.any() or not grid.free.any():
        raise InputError("shows no wall or no free floor", key="map", expected="a map of a floor")
    observed = grid.log_odds != 0.0
    hull = ndimage.binary_fill_holes(grid.free | grid.occupied)
    spots = [*_spots(grid, open_edges(grid), "open edge"), *_spots(grid, _double_gaps(grid), "double line")]
    return MapQuality(
        wall_thickness=_thickness(grid),
        unknown_share=float(np.mean(grid.unknown[hull])),
        unsure_share=float(np.mean(np.abs(grid.log_odds[observed]) < UNSURE)),
        spots=sorted(spots, key=lambda spot: -spot.length),
    )


def _thickness(grid: Grid) -> float:
    """Twice the area of the walls over the length of their edges: what it is for any long strip."""
    occupied = np.pad(grid.occupied, 1)
    edges = sum(int(np.sum(occupied != np.roll(occupied, 1, axis))) for axis in (0, 1))
    return 2.0 * float(occupied.sum()) / edges * grid.cell_size


def _double_gaps(grid: Grid) -> NDArray[np.bool_]:
    """Return the cells in narrow gaps between occupied ones, which no robot and no wall has."""
    reach = max(round(0.5 * DOUBLE_GAP / grid.cell_size), 1)
    disc = np.hypot(*np.mgrid[-reach : reach + 1, -reach : reach + 1]) <= reach + 0.5
    padded = np.pad(grid.occupied, reach)
    closed = ndimage.binary_closing(padded, structure=disc)[reach:-reach, reach:-reach]
    return np.asarray(closed & grid.free)


def _spots(grid: Grid, cells: NDArray[np.bool_], kind: str) -> list[Spot]:
    labels, _ = ndimage.label(cells, structure=np.ones((3, 3)))
    spots = []
    for number, part in enumerate(ndimage.find_objects(labels), start=1):
        offset = [axis.start for axis in part]
        points = grid.points_of(np.argwhere(labels[part] == number) + offset)
        length = float(np.hypot(*np.ptp(points, axis=0))) + grid.cell_size
        # A blot is not a line.
        if length >= SHORTEST_SPOT and (kind == "open edge" or len(points) * grid.cell_size**2 < DOUBLE_GAP * length):
            x, y = points.mean(axis=0)
            spots.append(Spot(kind, round(float(x), 2), round(float(y), 2), round(length, 2)))
    return spots
