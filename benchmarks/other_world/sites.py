"""Sites of the second world: a floor with holes, drawn at random."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass, field

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy.ndimage import label
from scipy.sparse import coo_array, csr_array
from shapely.affinity import rotate, scale, translate
from shapely.geometry.base import BaseGeometry

__all__ = ["SITES", "OtherSite"]

RASTER = 0.1
"""Metres between the points at which free floor is looked for."""


@dataclass
class OtherSite:
    """A floor and what stands on it.

    Parameters
    ----------
    name : str
    outline : shapely.Geometry
        The inner side of the outer wall, m.
    solids : list of shapely.Polygon
        That the map knows.
    crates : list of shapely.Polygon
        That it does not.
    """

    name: str
    outline: BaseGeometry
    solids: list[shapely.Polygon]
    crates: list[shapely.Polygon] = field(default_factory=list)

    @property
    def floor(self) -> BaseGeometry:
        """All that is free in truth, ready to be asked often."""
        return self.outline.difference(shapely.union_all([*self.solids, *self.crates]))

    def room_for(self, gap: float) -> tuple[NDArray[np.float64], csr_array]:
        """Return points ``(N, 2)`` of the floor at least `gap` from everything, all joined, and the steps ``(N, N)``.

        The steps lead to the eight neighbours, so a way over them is some per cent longer than the shortest there is.
        """
        room = self.floor.buffer(-gap)
        x0, y0, x1, y1 = self.outline.bounds
        xs, ys = np.arange(x0, x1, RASTER), np.arange(y0, y1, RASTER)
        mask = shapely.contains_xy(room, *np.meshgrid(xs, ys))
        parts, count = label(mask, np.ones((3, 3)))
        if count == 0:
            return np.zeros((0, 2)), csr_array((0, 0))
        mask = parts == np.argmax(np.bincount(parts.ravel())[1:]) + 1
        number = np.full(mask.shape, -1)
        number[mask] = np.arange(mask.sum())
        starts, ends, lengths = [], [], []
        for dy, dx in ((0, 1), (1, 0), (1, 1), (1, -1)):
            here = number[: len(ys) - dy, max(-dx, 0) : len(xs) - max(dx, 0)]
            there = number[dy:, max(dx, 0) : len(xs) + min(dx, 0)]
            both = (here >= 0) & (there >= 0)
            starts.append(here[both])
            ends.append(there[both])
            lengths.append(np.full(both.sum(), RASTER * np.hypot(dx, dy)))
        rows, columns, ways = np.concatenate(starts), np.concatenate(ends), np.concatenate(lengths)
        graph = coo_array((ways, (rows, columns)), shape=(mask.sum(), mask.sum())).tocsr()
        row, column = np.nonzero(mask)
        return np.column_stack([xs[column], ys[row]]), graph


def market(rng: np.random.Generator) -> OtherSite:
    """A hall with rows of stalls of all sizes, each turned a little."""
    width, depth = rng.uniform(16.0, 22.0), rng.uniform(11.0, 15.0)
    stalls = []
    for x in np.arange(3.5, width - 3.0, rng.uniform(4.2, 5.0)):
        for y in np.arange(3.0, depth - 2.5, rng.uniform(3.6, 4.4)):
            stall = shapely.box(-rng.uniform(0.5, 1.0), -rng.uniform(0.3, 0.6), rng.uniform(0.5, 1.0), 0.5)
            stalls.append(translate(rotate(stall, rng.uniform(-20.0, 20.0)), x, y))
    return OtherSite("market", shapely.box(0.0, 0.0, width, depth), stalls)


def office_ring(rng: np.random.Generator) -> OtherSite:
    """A ring of corridors about a block, with cupboards along the outer wall."""
    width, depth, corridor = rng.uniform(18.0, 24.0), rng.uniform(12.0, 16.0), rng.uniform(1.9, 2.4)
    solids = [shapely.box(corridor, corridor, width - corridor, depth - corridor)]
    for _ in range(5):
        x, deep, wide = rng.uniform(3.0, width - 4.0), rng.uniform(0.2, 0.45), rng.uniform(0.6, 1.2)
        y = rng.choice([0.0, depth - deep])
        solids.append(shapely.box(x, y, x + wide, y + deep))
    return OtherSite("office ring", shapely.box(0.0, 0.0, width, depth), solids)


def hall(rng: np.random.Generator) -> OtherSite:
    """A wide hall with pillars."""
    width, depth = rng.uniform(18.0, 26.0), rng.uniform(12.0, 16.0)
    pillar = shapely.Point(0.0, 0.0).buffer(rng.uniform(0.2, 0.35))
    pillars = [
        translate(pillar, x + rng.normal(0.0, 0.3), y + rng.normal(0.0, 0.3))
        for x in np.arange(4.0, width - 2.0, 5.0)
        for y in np.arange(3.5, depth - 2.0, 4.5)
    ]
    niche = shapely.box(width - 1.5, 0.0, width, 2.0)
    return OtherSite("hall", shapely.box(0.0, 0.0, width, depth), [*pillars, niche])


def l_corridor(rng: np.random.Generator) -> OtherSite:
    """Two corridors at a corner, mirrored and turned at random, with a room at each end."""
    wide, long_arm, short_arm = rng.uniform(1.5, 1.9), rng.uniform(9.0, 13.0), rng.uniform(6.0, 9.0)
    shape = shapely.union_all(
        [
            shapely.box(0.0, 0.0, long_arm, wide),
            shapely.box(0.0, 0.0, wide, short_arm),
            shapely.box(long_arm, -1.0, long_arm + 3.5, 2.5),
            shapely.box(-1.0, short_arm, 2.5, short_arm + 3.5),
            shapely.box(0.0, short_arm - 0.01, wide, short_arm + 0.01),
        ]
    )
    shape = scale(rotate(shape, rng.choice([0.0, 90.0, 180.0]), origin=(0.0, 0.0)), yfact=rng.choice([-1.0, 1.0]))
    return OtherSite("l corridor", shape, [])


SITES: dict[str, Callable[[np.random.Generator], OtherSite]] = {
    "market": market,
    "office ring": office_ring,
    "hall": hall,
    "l corridor": l_corridor,
}
