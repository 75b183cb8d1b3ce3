"""The costmap: stacked layers that give each cell of floor a price per metre."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import cast

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs.fall import ClearanceLayer
from vinecompass.costs.layers import Layer, MapLayer, PointsLayer, ZoneLayer, one_way_headings, slow_speeds
from vinecompass.costs.people import PeopleLayer, Walking
from vinecompass.errors import InputError
from vinecompass.grids import Grid, Zone, clearance
from vinecompass.robot import Robot
from vinecompass.settings import CostSettings

__all__ = ["Charge", "CostMap", "people_layer", "price_floor", "price_stack"]


@dataclass(frozen=True)
class Charge:
    """What a layer charges somewhere: a factor of 1 or more, `inf` where it closes the floor; and why."""

    factor: float
    why: str

    def __str__(self) -> str:
        return f"{'closed' if np.isinf(self.factor) else f'x {self.factor:.2f}'}: {self.why}"


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
    stack : sequence of Layer
        The layers that charged it, the clearance's last.
    one_way : array, (rows, columns), float32, or None
        Heading of the one-way zone over each cell in the grid's frame, `nan` for none.
    top_speeds : array, (rows, columns), float32, or None
        Speed not to exceed over each cell, m/s; `inf` outside slow zones.
    """

    grid: Grid
    prices: NDArray[np.float32]
    forbidden: NDArray[np.bool_]
    clearance: NDArray[np.float32]
    layers: dict[str, NDArray[np.float32]]
    stack: Sequence[Layer] = ()
    one_way: NDArray[np.float32] | None = None
    top_speeds: NDArray[np.float32] | None = None

    def explain(self, x: float, y: float) -> dict[str, Charge]:
        """Return what each layer charges at a site point and why, by its name; empty off the map."""
        cell = self.grid.cells_at([[x, y]])[0]
        if not self.grid.contains(cell[None])[0]:
            return {}
        return {
            layer.name: Charge(float(self.layers[layer.name][tuple(cell)]), self._why(layer, x, y, cell))
            for layer in self.stack
        }

    def why(self, layer: str, x: float, y: float) -> str:
        """Return why a layer charges what it does at a site point; empty off the map."""
        charges = self.explain(x, y)
        return charges[layer].why if layer in charges else ""

    def closing_layer(self, cell: ArrayLike) -> str:
        """Return the name of the layer that forbids a cell, or an empty text."""
        at = tuple(np.asarray(cell))
        names = [layer.name for layer in self.stack[:-1] if np.isinf(self.layers[layer.name][at])]
        return names[0] if names else ""

    def nearest_forbidden(self, cell: ArrayLike) -> NDArray[np.int64] | None:
        """Return the forbidden cell nearest to a cell, or None if there is none."""
        at = np.asarray(cell)
        distance = float(self.clearance[tuple(at)])
        if not np.isfinite(distance):
            return None
        reach = int(np.ceil(distance / self.grid.cell_size)) + 1
        low = np.maximum(at - reach, 0)
        block = self.forbidden[low[0] : at[0] + reach + 1, low[1] : at[1] + reach + 1]
        cells = np.argwhere(block) + low
        return np.asarray(cells[int(np.argmin(np.hypot(*(cells - at).T)))]) if len(cells) else None

    def _why(self, layer: Layer, x: float, y: float, cell: NDArray[np.int64]) -> str:
        if layer.name != ClearanceLayer.name:
            return layer.why(x, y) if hasattr(layer, "why") else "a layer of your own"
        nearest = self.nearest_forbidden(cell)
        if nearest is None:
            return "nothing closed anywhere"
        (nx, ny), closing = self.grid.points_of(nearest[None])[0], self.closing_layer(nearest)
        return f"{self.clearance[tuple(cell)]:.2f} m from floor closed by the layer {closing!r} at {nx:.2f}, {ny:.2f}"


def price_floor(
    grid: Grid,
    robot: Robot,
    *,
    zones: Sequence[Zone] = (),
    obstacles: Layer | ArrayLike | None = None,
    people: Sequence[Walking] = (),
    extra_layers: Sequence[Layer] = (),
    settings: CostSettings | None = None,
) -> CostMap:
    """Price the floor of a map for a robot.

    Parameters
    ----------
    grid : Grid
    robot : Robot
    zones : sequence of Zone
    obstacles : array_like, (N, 2), or Layer, optional
        Points in the site frame where something stands that is not in the map, m; or `LiveObstacles`.
    people : sequence of Walking
    extra_layers : sequence of Layer
        The user's own.
    settings : CostSettings, optional

    Returns
    -------
    CostMap

    Raises
    ------
    InputError
        A layer charges less than 1 somewhere, `nan`, or for a grid of another shape.

    Examples
    --------
    >>> from vinecompass import demo_file, read_robot
    >>> grid = Grid(np.full((60, 60), -3.0, np.float32), cell_size=0.05)
    >>> grid.log_odds[:, 0] = 3.0
    >>> costmap = price_floor(grid, read_robot(demo_file("robot.toml")))
    >>> costmap.explain(0.1, 1.5)["clearance"].factor, costmap.explain(2.5, 1.5)["clearance"].factor
    (inf, 1.0)
    """
    s = settings or CostSettings()
    stack: list[Layer] = [MapLayer(grid, s.unknown, s.unknown_price), ZoneLayer(zones, robot.drive.top_speed)]
    stack += extra_layers
    if obstacles is not None:
        stack.append(cast(Layer, obstacles) if hasattr(obstacles, "charge") else PointsLayer(grid, obstacles))
    if people:
        stack.append(people_layer(people, s))
    near = ClearanceLayer(np.zeros((0, 0), np.float32), s.contact_price, s.comfort, s.fall)
    priced = price_stack(grid, robot, [*stack, near], one_way_headings(grid, zones))
    return replace(priced, top_speeds=slow_speeds(grid, zones))


def people_layer(people: Sequence[Walking], settings: CostSettings) -> PeopleLayer:
    """Return the layer that charges for people as the settings say."""
    s = settings
    return PeopleLayer(
        people, s.people_price, s.people_spread, s.people_lookahead, s.people_wide_side, s.people_widening
    )


def price_stack(
    grid: Grid, robot: Robot, stack: Sequence[Layer], one_way: NDArray[np.float32] | None = None
) -> CostMap:
    """Price a floor by layers, the last a `ClearanceLayer` that is given its clearance here."""
    *lower, last = stack
    assert isinstance(last, ClearanceLayer)
    layers = {layer.name: _checked(layer, grid, robot) for layer in lower}
    forbidden = np.zeros(grid.shape, dtype=bool)
    for factors in layers.values():
        forbidden |= np.isinf(factors)
    near = replace(last, clearance=clearance(forbidden, grid.cell_size))
    layers[near.name] = near.charge(grid, robot)
    prices = np.ones(grid.shape, np.float32)
    for factors in layers.values():
        prices *= factors
    return CostMap(grid, prices, forbidden, near.clearance, layers, (*lower, near), one_way)


def _checked(layer: Layer, grid: Grid, robot: Robot) -> NDArray[np.float32]:
    factors = layer.charge(grid, robot)
    if factors.shape != grid.shape:
        raise InputError("is of another shape", key=layer.name, value=factors.shape, expected=f"factors {grid.shape}")
    if not np.all(factors >= 1.0):
        raise InputError(
            "is no factor", key=f"layer {layer.name}", value=float(factors.min()), expected="1 or more, or inf"
        )
    return factors
