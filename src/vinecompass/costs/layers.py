"""Layers of a costmap. Each charges every cell a factor on its length: 1 is nothing, `inf` closes it.

A layer is any object with a `name` and a method `charge(grid, robot)` that returns factors ``(rows, columns)``.
"""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal, Protocol

import numpy as np
from numpy.typing import NDArray

from vinecompass.grids import Grid, Zone, cells_inside
from vinecompass.robot import Robot

__all__ = ["ClearanceLayer", "Layer", "MapLayer", "ZoneLayer"]

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
    """Occupied floor is closed; unknown floor is closed, or free if so chosen."""

    unknown: Literal["closed", "free"] = "closed"
    name: str = "map"

    def charge(self, grid: Grid, robot: Robot) -> Factors:
        """Close what the map says is not free."""
        closed = grid.occupied if self.unknown == "free" else ~grid.free
        return np.where(closed, np.inf, 1.0).astype(np.float32)


@dataclass(frozen=True)
class ZoneLayer:
    """Closed zones are closed, dear ones cost their factor."""

    zones: Sequence[Zone]
    name: str = "zones"

    def charge(self, grid: Grid, robot: Robot) -> Factors:
        """Charge the cells whose centres lie in a zone."""
        factors = np.ones(grid.shape, np.float32)
        for zone in self.zones:
            factors[cells_inside(grid, zone.polygon)] *= np.inf if zone.kind == "closed" else zone.factor
        return factors


@dataclass(frozen=True)
class ClearanceLayer:
    """Floor near what is closed: closed where the body cannot be at any heading, dear where it is near.

    Parameters
    ----------
    clearance : array, (rows, columns)
        Distance of each cell's centre to the nearest closed one, m.
    contact_price : float
        The factor where the body, at its narrowest, would just touch.
    comfort : float
        Distance between body and obstacle from which floor costs nothing extra, m.
    """

    clearance: NDArray[np.float32]
    contact_price: float
    comfort: float
    name: str = "clearance"

    def charge(self, grid: Grid, robot: Robot) -> Factors:
        """Fall as a parabola from `contact_price` at contact to 1 at `comfort`."""
        gap = self.clearance - np.float32(robot.body.inner_radius + grid.cell_size / 2.0)
        nearness = np.clip(1.0 - gap / np.float32(self.comfort), 0.0, 1.0)
        factors = np.float32(1.0) + np.float32(self.contact_price - 1.0) * nearness**2
        factors[gap < 0.0] = np.inf
        return factors
