"""Places of the second world that robots are driven round to record them, with the way that they take."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass
from itertools import pairwise

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely.affinity import rotate, translate

__all__ = ["PLACES", "Place"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Place:
    """A floor with holes, and a way through it.

    Parameters
    ----------
    name : str
    floor : shapely.Polygon
        All that is free, m.
    way : array, (N, 2)
        Corners of the way; it turns round on the spot where the way does.
    """

    name: str
    floor: shapely.Polygon
    way: FloatArray

    @property
    def segments(self) -> FloatArray:
        """All that beams end on ``(S, 4)``: x and y of one end and of the other."""
        rings = [self.floor.exterior, *self.floor.interiors]
        parts = [np.asarray(ring.coords) for ring in rings]
        return np.vstack([np.hstack([part[:-1], part[1:]]) for part in parts])


def ring(rng: np.random.Generator) -> Place:
    """Corridors round a block, 60 m by 35 m, with door leaves and pilasters; driven round once and a bit more."""
    wide = rng.uniform(2.0, 2.6)
    outer, inner = shapely.box(0.0, 0.0, 60.0, 35.0), shapely.box(wide, wide, 60.0 - wide, 35.0 - wide)
    solids = [inner]
    for _ in range(16):
        along, deep, long = rng.uniform(4.0, 55.0), rng.uniform(0.1, 0.4), rng.uniform(0.2, 1.0)
        side = rng.choice([0.0, 35.0 - deep])
        solids.append(shapely.box(along, side, along + long, side + deep))
    for _ in range(8):
        along, deep, long = rng.uniform(4.0, 30.0), rng.uniform(0.1, 0.4), rng.uniform(0.2, 1.0)
        side = rng.choice([0.0, 60.0 - deep])
        solids.append(shapely.box(side, along, side + deep, along + long))
    m = 0.5 * wide + 0.2
    corners = [[8.0, m], [60.0 - m, m], [60.0 - m, 35.0 - m], [m, 35.0 - m], [m, m], [18.0, m]]
    middle = np.array([30.0, 17.5])
    inward = np.array(corners) + 0.15 * np.sign(middle - np.array(corners))
    return _placed("ring", outer.difference(shapely.union_all(solids)), inward, rng.uniform(-40.0, 40.0))


def corridor(rng: np.random.Generator) -> Place:
    """A plain corridor of 70 m with ribs of 5 cm every 4 m, driven there and back, with a room at one end."""
    wide = rng.uniform(2.2, 2.8)
    floor = shapely.union_all([shapely.box(0.0, 0.0, 70.0, wide), shapely.box(-5.0, -1.5, 0.01, wide + 1.0)])
    ribs = [
        shapely.box(x, y, x + 0.3, y + 0.05)
        for x in np.arange(4.0, 69.0, 4.0) + rng.normal(0.0, 0.1, 17)
        for y in (0.0, wide - 0.05)
    ]
    m = 0.5 * wide
    way = np.array([[-2.5, m - 0.6], [2.0, m], [67.5, m - 0.2], [68.4, m + 0.2], [66.0, m + 0.3], [-1.5, m + 0.2]])
    return _placed("corridor", floor.difference(shapely.union_all(ribs)), way, rng.uniform(-40.0, 40.0))


def great_hall(rng: np.random.Generator) -> Place:
    """A hall of 48 m by 30 m with pillars, driven round and through the middle."""
    pillar = shapely.Point(0.0, 0.0).buffer(rng.uniform(0.2, 0.35), quad_segs=3)
    pillars = [
        translate(pillar, x + rng.normal(0.0, 0.2), y + rng.normal(0.0, 0.2))
        for x in np.arange(6.0, 45.0, 6.0)
        for y in np.arange(6.0, 27.0, 6.0)
    ]
    floor = shapely.box(0.0, 0.0, 48.0, 30.0).difference(
        shapely.union_all([*pillars, shapely.box(44.0, 0.0, 48.0, 3.0)])
    )
    way = [[3.0, 3.0], [39.0, 3.0], [39.0, 9.0], [45.0, 9.0], [45.0, 27.0], [3.0, 27.0], [3.0, 15.0]]
    way += [[39.0, 15.0], [39.0, 21.0], [9.0, 21.0], [9.0, 9.0], [3.0, 9.0], [3.0, 4.0]]
    return _placed("hall", floor, np.array(way), rng.uniform(-40.0, 40.0))


def clinic(rng: np.random.Generator) -> Place:
    """Rooms on both sides of a corridor, each driven into and out of again."""
    wide, deep = 2.4, rng.uniform(4.5, 5.5)
    parts = [shapely.box(0.0, 0.0, 36.0, wide)]
    solids, way = [], [[1.0, 1.2]]
    for number, x in enumerate(np.arange(0.0, 36.0, 6.0)):
        for side in (-1.0, 1.0):
            low, high = (wide + 0.15, wide + 0.15 + deep) if side > 0.0 else (-0.15 - deep, -0.15)
            parts.append(shapely.box(x + 0.08, low, x + 5.92, high))
            door = x + rng.uniform(1.5, 3.0)
            parts.append(shapely.box(door, min(low, wide - 0.01), door + 1.3, max(high - deep, 0.01)))
            for _ in range(3):
                bed = rotate(shapely.box(-1.0, -0.4, 0.9, 0.4), rng.choice([0.0, 90.0]) + rng.normal(0.0, 4.0))
                bed = translate(bed, x + rng.uniform(1.0, 5.0), rng.uniform(low + 0.4, high - 0.4))
                solids.append(bed)
            if side == (1.0 if number % 2 else -1.0):
                inside = [[door + 0.65, low + 1.4 if side > 0.0 else high - 1.4]]
                at = [[door + 0.65, 1.2]]
                way += [*at, *inside, *at] if number % 3 else at
    way += [[34.5, 1.2], [20.0, 1.0], [2.0, 1.2]]
    free = shapely.LineString(way).buffer(0.75)
    floor = shapely.union_all(parts).difference(shapely.union_all([s.difference(free) for s in solids]))
    return _placed("clinic", floor, np.array(way), rng.uniform(-40.0, 40.0))


def warehouse(rng: np.random.Generator) -> Place:
    """Rows of shelves that look alike, driven up one aisle and down the next, and through one of them again."""
    shelves, legs = [], []
    for row in range(4):
        y = 3.0 + 4.0 * row
        for x in np.arange(4.0, 32.0, 7.4):
            whole = shapely.box(x, y, x + 6.4, y + 1.1)
            gaps = [shapely.box(g, y + 0.3, g + rng.uniform(0.3, 0.9), y + 1.2) for g in x + rng.uniform(0.5, 5.0, 2)]
            shelves.append(whole.difference(shapely.union_all(gaps)))
        legs.append(y + 2.5)
    floor = shapely.box(0.0, 0.0, 38.0, 20.5).difference(shapely.union_all(shelves))
    way = [[2.0, 1.5], [36.0, 1.5]]
    for number, y in enumerate(legs[:3]):
        ends = (36.0, 2.0) if number % 2 == 0 else (2.0, 36.0)
        way += [[ends[0], y], [ends[1], y]]
    way += [[2.0, 18.5], [36.0, 18.5], [36.0, legs[0]], [4.0, legs[0]]]
    return _placed("warehouse", floor, np.array(way), rng.uniform(-40.0, 40.0))


def offices(rng: np.random.Generator) -> Place:
    """Eight rooms that open into each other, with walls of 10 to 14 cm between them that are seen from both sides."""
    wide, deep, thick = rng.uniform(5.0, 6.0), rng.uniform(4.0, 5.0), rng.uniform(0.10, 0.14)
    corners = [(column * (wide + thick), row * (deep + thick)) for row in (0, 1) for column in range(4)]
    parts = [shapely.box(x, y, x + wide, y + deep) for x, y in corners]
    middles = np.array(corners) + [0.5 * wide, 0.5 * deep] + rng.uniform(-0.4, 0.4, (8, 2))
    solids, way = [], []
    around = [0, 1, 2, 3, 7, 6, 5, 4, 0]
    for first, second in pairwise(around):
        (x, y), (other_x, other_y) = corners[min(first, second)], corners[max(first, second)]
        if y == other_y:
            door = np.array([other_x - 0.5 * thick, y + rng.uniform(1.2, deep - 1.2)])
            parts.append(shapely.box(door[0] - thick, door[1] - 0.5, door[0] + thick, door[1] + 0.5))
            aside = np.array([0.9 if second > first else -0.9, 0.0])
        else:
            door = np.array([x + rng.uniform(1.2, wide - 1.2), other_y - 0.5 * thick])
            parts.append(shapely.box(door[0] - 0.5, door[1] - thick, door[0] + 0.5, door[1] + thick))
            aside = np.array([0.0, 0.9 if second > first else -0.9])
        way += [middles[first], door - aside, door + aside]
    way = [*way, *way, middles[0]]
    for x, y in corners:
        for _ in range(3):
            desk = rotate(shapely.box(-0.7, -0.35, 0.7, 0.35), rng.choice([0.0, 90.0]) + rng.normal(0.0, 4.0))
            solids.append(translate(desk, x + rng.uniform(0.5, wide - 0.5), y + rng.uniform(0.5, deep - 0.5)))
    free = shapely.LineString(way).buffer(0.6)
    floor = shapely.union_all(parts).difference(shapely.union_all([s.difference(free) for s in solids]))
    return _placed("offices", floor, np.array(way), rng.uniform(-40.0, 40.0))


PLACES: dict[str, Callable[[np.random.Generator], Place]] = {
    "ring": ring,
    "corridor": corridor,
    "hall": great_hall,
    "clinic": clinic,
    "warehouse": warehouse,
    "offices": offices,
}


def _largest(floor: shapely.Geometry) -> shapely.Polygon:
    return max(getattr(floor, "geoms", [floor]), key=lambda part: part.area)


def _placed(name: str, floor: shapely.Geometry, way: FloatArray, turn_deg: float) -> Place:
    """Turn a place about the origin: no building lies along the axes of its map."""
    turned = rotate(_largest(floor), turn_deg, origin=(0.0, 0.0))
    c, s = np.cos(np.radians(turn_deg)), np.sin(np.radians(turn_deg))
    return Place(name, turned, way @ np.array([[c, s], [-s, c]]))
