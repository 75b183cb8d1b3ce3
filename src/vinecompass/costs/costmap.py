"""The costmap: stacked layers that give each cell of floor a price per metre."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray
from pydantic import Field

from vinecompass.costs.layers import ClearanceLayer, Layer, MapLayer, ZoneLayer
from vinecompass.files import Model, Number, Positive
from vinecompass.grids import Grid, Zone, clearance
from vinecompass.robot import Robot

__all__ = ["CostMap", "CostSettings", "price_floor"]


class CostSettings(Model):
    """The ``[costs]`` table of the settings."""

    unknown: Literal["closed", "free"] = Field("closed", description='"closed" or "free"')
    contact_price: Number = Field(8.0, ge=1.0, description="price where the body would just touch, 1 or more")
    comfort: Positive = Field(0.6, description="gap beside the body from which floor costs 1, m")


@dataclass(frozen=True)
class CostMap:
    """Prices for one robot on one map.

    Parameters
    ----------
    grid : Grid
        The map priced.
    prices : array, (rows, columns), float32
        Metres-equivalent per metre for the body's origin: 1 is clear floor, `inf` is closed.
    forbidden : array of bool, (rows, columns)
        Cells that no part of the body may touch: occupied, unknown if so chosen, closed zones, obstacles seen.
    clearance : array, (rows, columns), float32
        Distance of each cell's centre to the nearest forbidden one, m.
    layers : dict of str to array
        What each layer charges; their product is `prices`.
    """

    grid: Grid
    prices: NDArray[np.float32]
    forbidden: NDArray[np.bool_]
    clearance: NDArray[np.float32]
    layers: dict[str, NDArray[np.float32]]

    def explain(self, x: float, y: float) -> dict[str, float]:
        """Return what each layer charges at a site point, by name; empty off the map."""
        cell = self.grid.cells_at([[x, y]])[0]
        if not self.grid.contains(cell[None])[0]:
            return {}
        return {name: float(factors[tuple(cell)]) for name, factors in self.layers.items()}


def price_floor(
    grid: Grid,
    robot: Robot,
    *,
    zones: Sequence[Zone] = (),
    obstacles: ArrayLike | None = None,
    extra_layers: Sequence[Layer] = (),
    settings: CostSettings | None = None,
) -> CostMap:
    """Price the floor of a map for a robot.

    Parameters
    ----------
    grid : Grid
    robot : Robot
    zones : sequence of Zone
    obstacles : array_like, (N, 2), optional
        Points in the site frame where something stands that is not in the map, m.
    extra_layers : sequence of Layer
        The user's own.
    settings : CostSettings, optional

    Returns
    -------
    CostMap

    Examples
    --------
    >>> from vinecompass import demo_file, read_robot
    >>> grid = Grid(np.full((60, 60), -3.0, np.float32), cell_size=0.05)
    >>> grid.log_odds[:, 0] = 3.0
    >>> costmap = price_floor(grid, read_robot(demo_file("robot.toml")))
    >>> costmap.explain(0.1, 1.5)["clearance"], costmap.explain(2.5, 1.5)["clearance"]
    (inf, 1.0)
    """
    s = settings or CostSettings()
    stack: list[Layer] = [MapLayer(s.unknown), ZoneLayer(zones), *extra_layers]
    layers = {layer.name: layer.charge(grid, robot) for layer in stack}
    if obstacles is not None:
        layers["obstacles"] = _obstacle_factors(grid, obstacles)
    forbidden = np.zeros(grid.shape, dtype=bool)
    for factors in layers.values():
        forbidden |= np.isinf(factors)
    distance = clearance(forbidden, grid.cell_size)
    near = ClearanceLayer(distance, s.contact_price, s.comfort)
    layers[near.name] = near.charge(grid, robot)
    prices = np.ones(grid.shape, np.float32)
    for factors in layers.values():
        prices *= factors
    return CostMap(grid, prices, forbidden, distance, layers)


def _obstacle_factors(grid: Grid, points: ArrayLike) -> NDArray[np.float32]:
    factors = np.ones(grid.shape, np.float32)
    cells = grid.cells_at(np.asarray(points, dtype=float).reshape(-1, 2))
    cells = cells[grid.contains(cells)]
    factors[cells[:, 0], cells[:, 1]] = np.inf
    return factors
