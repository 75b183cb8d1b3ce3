"""The costmap: stacked layers that give each cell of floor a price per metre."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from typing import NamedTuple, cast

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.comparing import ByValue
from vinecompass.contact import Cells, Walking
from vinecompass.costs.fall import ClearanceLayer
from vinecompass.costs.kernels import NO_WAYS
from vinecompass.costs.layers import Layer, MapLayer, PointsLayer, ZoneLayer, one_way_headings, slow_speeds
from vinecompass.costs.passing import OTHER_SIDE, Side, side_with_room
from vinecompass.costs.people import PeopleLayer
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import transform_points
from vinecompass.grids import Grid, Zone, clearance
from vinecompass.robot import Robot
from vinecompass.settings import CostSettings

__all__ = ["Charge", "CostMap", "PricedFloor", "people_layer", "price_floor", "price_stack", "with_people"]


OUR_LAYERS = ("map", "zones", "obstacles", "people", "clearance")
"""Names that a user's layer may not have."""


@dataclass(frozen=True)
class Charge:
    """What a layer charges somewhere: a factor of 1 or more, `inf` where it closes the floor; and why."""

    factor: float
    why: str

    def __str__(self) -> str:
        return f"{'closed' if np.isinf(self.factor) else f'x {self.factor:.2f}'}: {self.why}"


class PricedFloor(NamedTuple):
    """Priced floor as kernels take it.

    Parameters
    ----------
    prices : array, (rows, columns), float32
    one_way : array, (rows, columns), float32
        Of size 0 where there is no one-way zone.
    cells : Cells
    """

    prices: NDArray[np.float32]
    one_way: NDArray[np.float32]
    cells: Cells


@dataclass(frozen=True, eq=False, repr=False)
class CostMap(ByValue):
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
    closed_beyond : bool
        Whether the floor off the map is forbidden: it is unknown floor, and treated like that.
    """

    grid: Grid
    prices: NDArray[np.float32]
    forbidden: NDArray[np.bool_]
    clearance: NDArray[np.float32]
    layers: dict[str, NDArray[np.float32]]
    stack: Sequence[Layer] = ()
    one_way: NDArray[np.float32] | None = None
    top_speeds: NDArray[np.float32] | None = None
    closed_beyond: bool = True

    def __repr__(self) -> str:
        """Return it in one line."""
        open_share = float(np.mean(np.isfinite(self.prices)))
        return f"<CostMap of {', '.join(self.layers)} on {self.grid!r}, {100.0 * open_share:.0f} % open>"

    @property
    def floor(self) -> PricedFloor:
        """What kernels take of it; its arrays are these."""
        return PricedFloor(self.prices, NO_WAYS if self.one_way is None else self.one_way, self.cells)

    @property
    def cells(self) -> Cells:
        """What contact is tested with; its arrays are these."""
        return Cells(self.forbidden, self.clearance, self.grid.cell_size, self.closed_beyond)

    def as_now(self) -> CostMap:
        """Return one that stays as this is now where the loop goes on changing it: prices and what is forbidden.

        Its layers, which say why, are the same arrays.
        """
        forbidden, distance = self.forbidden.copy(), self.clearance.copy()
        return replace(self, prices=self.prices.copy(), forbidden=forbidden, clearance=distance)

    def closed_at(self, points: ArrayLike) -> CostMap:
        """Return one in which the cells of site points ``(N, 2)`` on the map are forbidden, too."""
        cells = self.grid.cells_at(points)
        rows, columns = cells[self.grid.contains(cells)].T
        prices, forbidden = self.prices.copy(), self.forbidden.copy()
        prices[rows, columns], forbidden[rows, columns] = np.inf, True
        distance = clearance(forbidden, self.grid.cell_size, closed_beyond=self.closed_beyond)
        return replace(self, prices=prices, forbidden=forbidden, clearance=distance)

    def window(self, first: ArrayLike, last: ArrayLike) -> CostMap:
        """Return the floor from one cell up to, but without, another as a costmap of its own, which keeps no layers."""
        (row, column), (end_row, end_column) = np.asarray(first), np.asarray(last)
        block, grid = np.s_[row:end_row, column:end_column], self.grid
        x, y = transform_points(grid.frame, [[column * grid.cell_size, row * grid.cell_size]])[0]
        # Copied, and so in one piece, as all floor is: kernels are compiled anew for arrays that are not.
        return CostMap(
            Grid(grid.log_odds[block], grid.cell_size, (float(x), float(y)), grid.turn),
            self.prices[block].copy(),
            self.forbidden[block].copy(),
            self.clearance[block].copy(),
            {},
            one_way=None if self.one_way is None else self.one_way[block].copy(),
            closed_beyond=True,
        )

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

    def closed_floor(self, cell: ArrayLike) -> str:
        """Return what the forbidden floor at a cell is called: by the layer that closes it, or as the map's edge."""
        name = self.closing_layer(cell)
        return f"floor closed by the layer {name!r}" if name else "the edge of the map"

    def nearest_forbidden(self, cell: ArrayLike) -> NDArray[np.int64] | None:
        """Return the forbidden cell nearest to a cell, or None if there is none.

        Where the floor beyond the map's edge is nearer, the cell of the edge that stands for it.
        """
        at = np.asarray(cell)
        distance = float(self.clearance[tuple(at)])
        if not np.isfinite(distance):
            return None
        reach = int(np.ceil(distance / self.grid.cell_size)) + 1
        low = np.maximum(at - reach, 0)
        block = self.forbidden[low[0] : at[0] + reach + 1, low[1] : at[1] + reach + 1]
        cells = np.argwhere(block) + low
        if len(cells):
            away = np.hypot(*(cells - at).T)
            if float(away.min()) * self.grid.cell_size < distance + 0.5 * self.grid.cell_size:
                return np.asarray(cells[int(np.argmin(away))])
        return self._nearest_edge(at) if self.closed_beyond else None

    def _nearest_edge(self, cell: NDArray[np.int64]) -> NDArray[np.int64]:
        """Return the cell of the map's edge nearest to a cell."""
        last = np.array(self.grid.shape) - 1
        to_edges = np.concatenate([cell, last - cell])
        side = int(np.argmin(to_edges))
        edge = cell.copy()
        edge[side % 2] = 0 if side < 2 else last[side % 2]
        return edge

    def _why(self, layer: Layer, x: float, y: float, cell: NDArray[np.int64]) -> str:
        if layer.name != ClearanceLayer.name:
            return layer.why(x, y) if hasattr(layer, "why") else "a layer of your own"
        nearest = self.nearest_forbidden(cell)
        if nearest is None:
            return "nothing closed anywhere"
        nx, ny = self.grid.points_of(nearest[None])[0]
        return f"{self.clearance[tuple(cell)]:.2f} m from {self.closed_floor(nearest)} at {nx:.2f}, {ny:.2f}"


@checked
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
        A layer charges less than 1 somewhere, `nan`, or for a grid of another shape; or has the name of another.

    Examples
    --------
    >>> from vinecompass import demo_file, read_robot
    >>> grid = Grid(np.full((100, 100), -3.0, np.float32), cell_size=0.05)
    >>> grid.log_odds[:, 0] = 3.0
    >>> costmap = price_floor(grid, read_robot(demo_file("robot.toml")))
    >>> costmap.explain(0.1, 2.5)["clearance"].factor, costmap.explain(2.5, 2.5)["clearance"].factor
    (inf, 1.0)
    """
    s = settings or CostSettings()
    zoned = ZoneLayer(zones, robot.drive.top_speed, grid.cell_size)
    stack: list[Layer] = [MapLayer(grid, s.unknown, s.unknown_price), zoned]
    stack += _own_layers(extra_layers)
    if obstacles is not None:
        stack.append(cast(Layer, obstacles) if hasattr(obstacles, "charge") else PointsLayer(grid, obstacles))
    near = ClearanceLayer(np.zeros((0, 0), np.float32), s.contact_price, s.comfort, s.fall)
    priced = price_stack(grid, robot, [*stack, near], one_way_headings(grid, zones))
    priced = replace(priced, top_speeds=slow_speeds(grid, zones))
    return with_people(priced, robot, people, s) if people else priced


def _own_layers(layers: Sequence[Layer]) -> Sequence[Layer]:
    """Return a user's layers; raise `InputError` unless each has a name of its own, by which it is kept and told."""
    names = [layer.name for layer in layers]
    for number, name in enumerate(names):
        if name in OUR_LAYERS or name in names[:number]:
            raise InputError("is a layer's name already", key="extra_layers", value=name, expected="a name of its own")
    return layers


def people_layer(costmap: CostMap, robot: Robot, people: Sequence[Walking], settings: CostSettings) -> PeopleLayer:
    """Return the layer that charges for people on a floor as the settings say.

    Where only the side that is dear as a rule has room for the robot to pass, the other is dear.
    """
    s, dear = settings, settings.people_wide_side
    sides: tuple[Side, ...] = ()
    if dear != "none":
        usual = OTHER_SIDE[dear]
        sides = tuple(
            OTHER_SIDE[side_with_room(costmap.grid, costmap.clearance, robot, each, usual)] if each.walks else dear
            for each in people
        )
    return PeopleLayer(people, s.people_price, s.people_spread, s.people_lookahead, sides, s.people_widening)


def with_people(costmap: CostMap, robot: Robot, people: Sequence[Walking], settings: CostSettings) -> CostMap:
    """Return a floor that has no such layer yet with the one that charges for people: they close nothing."""
    layer, (*lower, near) = people_layer(costmap, robot, people, settings), costmap.stack
    factors = layer.charge(costmap.grid, robot)
    layers = costmap.layers | {layer.name: factors}
    return replace(costmap, prices=costmap.prices * factors, layers=layers, stack=(*lower, layer, near))


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
    beyond = not any(isinstance(layer, MapLayer) and layer.unknown != "closed" for layer in lower)
    near = replace(last, clearance=clearance(forbidden, grid.cell_size, closed_beyond=beyond))
    layers[near.name] = near.charge(grid, robot)
    prices = np.ones(grid.shape, np.float32)
    for factors in layers.values():
        prices *= factors
    return CostMap(grid, prices, forbidden, near.clearance, layers, (*lower, near), one_way, closed_beyond=beyond)


def _checked(layer: Layer, grid: Grid, robot: Robot) -> NDArray[np.float32]:
    factors = layer.charge(grid, robot)
    if factors.shape != grid.shape:
        raise InputError("is of another shape", key=layer.name, value=factors.shape, expected=f"factors {grid.shape}")
    if not np.all(factors >= 1.0):
        raise InputError(
            "is no factor", key=f"layer {layer.name}", value=float(factors.min()), expected="1 or more, or inf"
        )
    return factors
