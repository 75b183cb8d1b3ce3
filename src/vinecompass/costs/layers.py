"""Layers of a costmap. Each charges every cell a factor on its length: 1 is nothing, `inf` closes it.

A layer is any object with a `name` and a method `charge(grid, robot)` that returns factors ``(rows, columns)``. If it
also has a method `why(x, y)`, its sentence stands in every explanation.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Protocol

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray

from vinecompass.errors import InputError
from vinecompass.grids import Grid, Zone, zone_cells
from vinecompass.robot import Robot
from vinecompass.settings import Unknown

__all__ = ["Layer", "MapLayer", "PointsLayer", "ZoneLayer", "one_way_headings", "slow_speeds"]

Factors = NDArray[np.float32]


class Layer(Protocol):
    """What a layer must offer."""

    @property
    def name(self) -> str:
        """Names the layer in tables, figures and reasons."""

    def charge(self, grid: Grid, robot: Robot) -> Factors:
        """Return a factor of 1 or more for each cell ``(rows, columns)``; `inf` where no part of a body may be."""


@dataclass(frozen=True)
class MapLayer:
    """Occupied floor is closed; unknown floor is closed, dear or free, by choice."""

    grid: Grid
    unknown: Unknown = "closed"
    unknown_price: float = 3.0
    name: str = "map"

    def charge(self, grid: Grid, robot: Robot) -> Factors:
        """Close what the map says is occupied, and charge what it does not know."""
        unknown = {"closed": np.inf, "dear": self.unknown_price, "free": 1.0}[self.unknown]
        return np.where(grid.occupied, np.inf, np.where(grid.free, 1.0, unknown)).astype(np.float32)

    def why(self, x: float, y: float) -> str:
        """Say how the map reads there."""
        if self.grid.values_at([[x, y]], self.grid.occupied, False)[0]:
            return "occupied"
        if self.grid.values_at([[x, y]], self.grid.free, False)[0]:
            return "free"
        return f'unknown, and costs.unknown = "{self.unknown}"'


@dataclass(frozen=True)
class ZoneLayer:
    """Closed zones are closed, dear ones cost their factor, slow ones the time they take at full speed elsewhere."""

    zones: Sequence[Zone]
    top_speed: float
    cell_size: float
    name: str = "zones"

    def charge(self, grid: Grid, robot: Robot) -> Factors:
        """Charge the cells that a zone rules."""
        factors = np.ones(grid.shape, np.float32)
        for zone in self.zones:
            factors[zone_cells(grid, zone)] *= self._factor(zone)
        return factors

    def why(self, x: float, y: float) -> str:
        """Name the zones there."""
        point = shapely.Point(x, y)
        # What a closed zone only touches it closes, too.
        reaches = [self.cell_size if zone.kind == "closed" else 0.0 for zone in self.zones]
        here = [
            zone for zone, reach in zip(self.zones, reaches, strict=True) if shapely.dwithin(zone.area, point, reach)
        ]
        return ", ".join(f"{zone.kind} zone {zone.name!r}" for zone in here) or "in no zone"

    def _factor(self, zone: Zone) -> float:
        if zone.kind == "slow" and zone.speed is not None:
            return max(self.top_speed / zone.speed, 1.0)
        return np.inf if zone.kind == "closed" else zone.factor


def one_way_headings(grid: Grid, zones: Sequence[Zone]) -> Factors | None:
    """Return the heading of the one-way zone over each cell ``(rows, columns)`` in the grid's frame, `nan` for none.

    Where two overlap, the later one counts; None if there is no such zone.
    """
    headings = np.full(grid.shape, np.nan, np.float32)
    for zone in zones:
        if zone.kind == "one-way" and zone.heading_deg is not None:
            headings[zone_cells(grid, zone)] = np.radians(zone.heading_deg) - grid.turn
    return None if np.all(np.isnan(headings)) else headings


def slow_speeds(grid: Grid, zones: Sequence[Zone]) -> Factors | None:
    """Return the speed not to exceed over each cell ``(rows, columns)``, m/s, `inf` outside slow zones.

    None if there is no such zone.
    """
    speeds = np.full(grid.shape, np.inf, np.float32)
    for zone in zones:
        if zone.kind == "slow" and zone.speed is not None:
            inside = zone_cells(grid, zone)
            speeds[inside] = np.minimum(speeds[inside], np.float32(zone.speed))
    return None if np.all(np.isinf(speeds)) else speeds


@dataclass(frozen=True)
class PointsLayer:
    """Points in the site frame ``(N, 2)`` where something stands that is not in the map."""

    grid: Grid
    points: ArrayLike
    name: str = "obstacles"

    def __post_init__(self) -> None:
        if not np.all(np.isfinite(np.asarray(self.points, dtype=float))):
            raise InputError("are no points", key="obstacles", value="nan or inf", expected="x, y in metres")

    def charge(self, grid: Grid, robot: Robot) -> Factors:
        """Close the cells that hold a point."""
        factors = np.ones(grid.shape, np.float32)
        cells = grid.cells_at(np.asarray(self.points, dtype=float).reshape(-1, 2))
        cells = cells[grid.contains(cells)]
        factors[cells[:, 0], cells[:, 1]] = np.inf
        return factors

    def why(self, x: float, y: float) -> str:
        """Tell whether something was seen there."""
        cells = self.grid.cells_at(np.asarray(self.points, dtype=float).reshape(-1, 2))
        return (
            "something seen there" if np.any(np.all(cells == self.grid.cells_at([[x, y]]), axis=-1)) else "nothing seen"
        )
