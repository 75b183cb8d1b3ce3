"""Made-up sites to drive in: halls with rows of barrels, crates and people, each another for its seed."""

from __future__ import annotations

from typing import Any

import numpy as np

from vinecompass import Grid, Site
from vinecompass.grids import grid_from_polygons

CELL = 0.05
WEST, SOUTH = 0.0171, 0.0313
"""Metres: buildings do not stand on the raster of a map."""


def hall(width: float, height: float, *, people: list[dict[str, Any]], start: tuple[float, float, float]) -> Site:
    """Return an empty hall with some people."""
    corners = [(0.0, 0.0), (width, 0.0), (width, height), (0.0, height), (0.0, 0.0)]
    return Site.model_validate({"name": "hall", "start": start, "wall": [{"points": corners}], "person": list(people)})


def map_of(site: Site) -> Grid:
    """Return the map of a site whose first wall goes round it, as if it had been drawn."""
    return grid_from_polygons(site.walls[0].points[:-1], [solid.polygon for solid in site.solids], CELL)


def cellar(seed: int, *, people: int = 2, aisles: tuple[float, float] = (1.2, 1.8), along: bool = False) -> Site:
    """Return a cellar with two blocks of racks, crates in the open, stops, and people who walk to and fro.

    `aisles`: between how many metres wide. `along`: whether stops look along the walls, not anywhere.
    """
    rng = np.random.default_rng(seed)
    width, height = rng.uniform(18.0, 26.0), rng.uniform(14.0, 18.0)
    solids, stops = [], []
    aisle, rack = rng.uniform(*aisles), rng.uniform(0.8, 1.3)
    x, number = WEST + 1.6, 0
    while x + rack < width - 1.6:
        for low, high in ((SOUTH + 2.2, 0.5 * height - 1.2), (0.5 * height + 1.2, height - 2.2)):
            if rng.random() < 0.8:
                solids.append({"name": f"rack {number}", "polygon": _box(x, low, x + rack, high)})
        if x + rack + aisle < width - 1.6:
            up = rng.random() < 0.5
            middle = rng.uniform(4.0, 0.5 * height - 2.0) + (0.5 * height - 1.5 if up else 0.0)
            stops.append(
                {"name": f"aisle {number}", "pose": (x + rack + 0.5 * aisle, middle, rng.choice([-90.0, 90.0]))}
            )
        x += rack + aisle
        number += 1
    for name, y in (("south", 1.1), ("middle", 0.5 * height), ("north", height - 1.1)):
        heading = rng.uniform(-180.0, 180.0)
        heading = 180.0 * (heading > 0.0) if along else heading
        stops.append({"name": name, "pose": (rng.uniform(2.0, width - 2.0), y, heading)})
    walks = [
        {
            "name": f"worker {i}",
            "speed": rng.uniform(0.6, 1.2),
            "route": [(1.0, y := (1.1, 0.5 * height, height - 1.1)[i % 3] + rng.uniform(-0.3, 0.3)), (width - 1.0, y)],
        }
        for i in range(people)
    ]
    walls = [*_box(WEST, SOUTH, width, height), (WEST, SOUTH)]
    return Site.model_validate(
        {
            "name": f"cellar {seed}",
            "start": (width / 2.0, 0.5 * height, 0.0),
            "wall": [{"points": walls}],
            "solid": solids,
            "stop": stops,
            "person": walks,
        }
    )


def _box(x0: float, y0: float, x1: float, y1: float) -> list[tuple[float, float]]:
    return [(x0, y0), (x1, y0), (x1, y1), (x0, y1)]
