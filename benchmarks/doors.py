"""Maps with doors of known widths, made by Shapely alone: prints which are missed, measured wrongly, or invented.

Run with ``python -m benchmarks.doors [MAPS]``.
"""

from __future__ import annotations

import sys
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray
from shapely import affinity
from shapely.geometry.base import BaseGeometry

from vinecompass import Grid, demo_file, find_narrow_places, price_floor, read_robot

__all__ = ["DoorMap", "door_map", "what_is_wrong"]

LENGTH, DEPTH = 12.0, 7.0
"""Metres of the building's sides."""


@dataclass(frozen=True)
class DoorMap:
    """A map, and its doors: the middle of each ``(N, 2)`` in the site frame, and how wide it is, m."""

    grid: Grid
    places: NDArray[np.float64]
    widths: NDArray[np.float64]


def door_map(seed: int) -> DoorMap:
    """Return a building at an odd angle, in two halls or three, with two doors in it, and corners that are none."""
    rng = np.random.default_rng(seed)
    cell, kind = float(rng.choice([0.02, 0.05])), seed % 3
    widths = np.round(rng.uniform(0.45, 0.95, 2), 2)
    thick = float(rng.uniform(0.1, 0.3))
    if kind == 0:
        # Two doors in one wall, with half a metre between them.
        first = float(rng.uniform(1.0, 3.5))
        at = [(6.0, first), (6.0, first + 0.5 + 0.5 * widths.sum())]
        walls = _wall(6.0, thick, [(at[0][1], widths[0]), (at[1][1], widths[1])])
    elif kind == 1:
        # A door beside an opening of two metres, and a door to a closet.
        at = [(6.0, 1.5), (11.0 - 0.5 * thick - 0.5, 5.5)]
        walls = [*_wall(6.0, thick, [(1.5, widths[0]), (4.0, 2.0)])]
        walls += _closet(at[1], widths[1], thick)
    else:
        # Three halls in a row.
        at = [(4.0, float(rng.uniform(1.0, 6.0))), (8.0, float(rng.uniform(1.0, 6.0)))]
        walls = _wall(4.0, thick, [(at[0][1], widths[0])]) + _wall(8.0, thick, [(at[1][1], widths[1])])
    # A wedge that makes two acute corners with the wall it leans on.
    wedge = shapely.Polygon([(0.6, 0.0), (2.4, 0.0), (2.9, 0.7)])
    shell = shapely.box(-0.3, -0.3, LENGTH + 0.3, DEPTH + 0.3).difference(shapely.box(0.0, 0.0, LENGTH, DEPTH))
    building = shapely.union_all([shell, wedge, *walls])
    angle = float(rng.uniform(0.0, 90.0)) if rng.random() < 0.7 else 0.0
    turned = affinity.rotate(building, angle, origin=(0.0, 0.0))
    points = np.array([affinity.rotate(shapely.Point(place), angle, origin=(0.0, 0.0)).coords[0] for place in at])
    return DoorMap(_drawn(turned, cell), points, widths)


def _wall(x: float, thick: float, doors: list[tuple[float, float]]) -> list[BaseGeometry]:
    """Return a wall across the building with doors (y, width) in it."""
    wall: BaseGeometry = shapely.box(x - 0.5 * thick, 0.0, x + 0.5 * thick, DEPTH)
    for y, width in doors:
        wall = wall.difference(shapely.box(x - thick, y - 0.5 * width, x + thick, y + 0.5 * width))
    return [wall]


def _closet(door: tuple[float, float], width: float, thick: float) -> list[BaseGeometry]:
    """Return the walls of a closet of 1.5 m by 2.6 m in the far corner, with a door in its long side."""
    x, y = door
    side: BaseGeometry = shapely.box(x - 0.5 * thick, DEPTH - 2.6 - thick, x + 0.5 * thick, DEPTH)
    side = side.difference(shapely.box(x - thick, y - 0.5 * width, x + thick, y + 0.5 * width))
    return [side, shapely.box(x - 0.5 * thick, DEPTH - 2.6 - thick, LENGTH, DEPTH - 2.6)]


def _drawn(walls: BaseGeometry, cell: float) -> Grid:
    """Return the map: a cell is as likely occupied as much of it lies in a wall, told at 25 points of it."""
    low_x, low_y, high_x, high_y = walls.bounds
    columns, rows = (int(np.ceil((high - low) / cell)) + 4 for low, high in ((low_x, high_x), (low_y, high_y)))
    grid = Grid(np.full((rows, columns), -3.0, np.float32), cell, (low_x - 2 * cell, low_y - 2 * cell))
    middles = grid.points_of(np.argwhere(np.ones(grid.shape, bool)))
    about = cell * (np.arange(5) - 2.0) / 5.0
    share = np.mean(
        [shapely.contains_xy(walls, middles[:, 0] + x, middles[:, 1] + y) for x in about for y in about], axis=0
    )
    outside = ~shapely.contains_xy(shapely.convex_hull(walls), *middles.T).reshape(grid.shape)
    share = np.clip(share, 0.05, 0.95).reshape(grid.shape)
    grid.log_odds[:] = np.log(share / (1.0 - share))
    grid.log_odds[outside] = 0.0
    return grid


def what_is_wrong(seed: int, tolerance: float = 0.02) -> list[str]:
    """Return which doors of a map are not found, measured wrongly or judged wrongly, and which are invented."""
    robot, made, told = read_robot(demo_file("robot.toml")), door_map(seed), []
    found = find_narrow_places(price_floor(made.grid, robot), robot)
    spots = np.array([(place.x, place.y) for place in found]).reshape(-1, 2)
    width = 2.0 * robot.body.inner_radius
    for door, wide in zip(made.places, made.widths, strict=True):
        away = np.hypot(*(spots - door).T)
        if not np.any(away < 0.3):
            told.append(f"seed {seed}: the door of {wide:.2f} m at {door.round(2)} is not found")
            continue
        place = found[int(np.argmin(away))]
        if abs(place.width - wide) > tolerance:
            told.append(f"seed {seed}, cells of {made.grid.cell_size}: {place.width:.3f} m for {wide:.2f} m")
        if abs(wide - width) > 2.0 * made.grid.cell_size and place.passes != (wide > width):
            told.append(f"seed {seed}: a door of {wide:.2f} m for a body of {width:.2f} m: {place}")
    for place, spot in zip(found, spots, strict=True):
        if np.all(np.hypot(*(made.places - spot).T) > 0.3):
            told.append(f"seed {seed}: invented: {place}")
    return told


def main() -> None:
    count = int(sys.argv[1]) if len(sys.argv) > 1 else 30
    told = [line for seed in range(count) for line in what_is_wrong(seed)]
    print(*told, f"{2 * count} doors in {count} maps: {len(told)} things wrong", sep="\n")


if __name__ == "__main__":
    main()
