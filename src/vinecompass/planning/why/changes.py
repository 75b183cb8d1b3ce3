"""What could be taken away from a costmap to open a way: zones, obstacles, layers of the user's own, unknown floor."""

from __future__ import annotations

from collections.abc import Iterator
from dataclasses import dataclass, replace

import numpy as np
from scipy import ndimage

from vinecompass.costs import CostMap, Layer, MapLayer, PeopleLayer, PointsLayer, ZoneLayer
from vinecompass.grids import Zone

__all__ = ["Change", "all_suspects", "suspects"]

ONE_OBSTACLE_CELLS = 3
"""Cells: obstacles no farther apart than twice this are one."""
MOST_APART = 12
"""Separate obstacles that are looked at one by one; of more, only all at once."""


@dataclass(frozen=True)
class Change:
    """A stack of layers with something taken away.

    Parameters
    ----------
    cause : str
        What kind of thing.
    what : str
        What it is called, and that it lies there.
    stack : tuple of Layer
        What is left.
    place : (x, y) or None
        Where it is, in the site frame, m.
    many : bool
        Whether it is more than one thing.
    """

    cause: str
    what: str
    stack: tuple[Layer, ...]
    place: tuple[float, float] | None = None
    many: bool = False


def suspects(costmap: CostMap) -> Iterator[tuple[Change, list[Change]]]:
    """Yield, kind by kind, all that may close a way taken away at once, and one by one if there are several."""
    stack = tuple(costmap.stack)
    for i, layer in enumerate(stack[:-1]):
        if isinstance(layer, ZoneLayer):
            for kind in ("closed", "one-way"):
                yield from _zones(stack, i, layer, kind)
        elif isinstance(layer, MapLayer | PeopleLayer) or not np.any(np.isinf(costmap.layers[layer.name])):
            continue
        elif layer.name == "obstacles":
            yield _obstacles(costmap, stack, i)
        else:
            yield Change("layer", f"the layer {layer.name!r} lies", stack[:i] + stack[i + 1 :]), []
    for i, layer in enumerate(stack[:-1]):
        if isinstance(layer, MapLayer) and layer.unknown == "closed":
            yield Change("unknown", "unknown floor lies", _with(stack, i, replace(layer, unknown="free"))), []


def all_suspects(costmap: CostMap) -> Change:
    """Return everything of every kind taken away at once."""
    kept: list[Layer] = []
    named: list[str] = []
    for layer in costmap.stack[:-1]:
        if isinstance(layer, MapLayer):
            kept.append(replace(layer, unknown="free") if layer.unknown == "closed" else layer)
            named += ["unknown floor"] if layer.unknown == "closed" else []
        elif isinstance(layer, ZoneLayer):
            open_zones = [zone for zone in layer.zones if zone.kind not in ("closed", "one-way")]
            named += [f"zone {zone.name!r}" for zone in layer.zones if zone not in open_zones]
            kept.append(replace(layer, zones=open_zones))
        elif np.any(np.isinf(costmap.layers[layer.name])):
            named.append(layer.name)
        else:
            kept.append(layer)
    return Change("several", " and ".join(named), (*kept, costmap.stack[-1]), many=True)


def _zones(stack: tuple[Layer, ...], i: int, layer: ZoneLayer, kind: str) -> Iterator[tuple[Change, list[Change]]]:
    zones = [zone for zone in layer.zones if zone.kind == kind]
    cause = "zone" if kind == "closed" else f"{kind} zone"

    def without(some: list[Zone]) -> tuple[Layer, ...]:
        return _with(stack, i, replace(layer, zones=[zone for zone in layer.zones if zone not in some]))

    apart = [Change(cause, f"the {kind} zone {zone.name!r} lies", without([zone]), _middle(zone)) for zone in zones]
    if len(zones) > 1:
        names = " and ".join(repr(zone.name) for zone in zones)
        yield Change(cause, f"the {kind} zones {names} lie", without(zones), _middle(zones[0]), many=True), apart
    elif apart:
        yield apart[0], []


def _obstacles(costmap: CostMap, stack: tuple[Layer, ...], i: int) -> tuple[Change, list[Change]]:
    name, grid = stack[i].name, costmap.grid
    mask = np.isinf(costmap.layers[name])
    labels, count = ndimage.label(ndimage.binary_dilation(mask, iterations=ONE_OBSTACLE_CELLS))
    apart = []
    for label in range(1, count + 1) if count <= MOST_APART else ():
        one = mask & (labels == label)
        points = grid.points_of(np.argwhere(one))
        x, y = (float(value) for value in points.mean(axis=0))
        rest = PointsLayer(grid, grid.points_of(np.argwhere(mask & ~one)))
        what = f"the obstacle at {x:.2f}, {y:.2f} ({costmap.why(name, *points[0])}) lies"
        apart.append(Change("obstacle", what, _with(stack, i, rest), (x, y)))
    if count == 1:
        return apart[0], []
    return Change("obstacle", f"{count} obstacles lie", stack[:i] + stack[i + 1 :], many=True), apart


def _with(stack: tuple[Layer, ...], i: int, layer: Layer) -> tuple[Layer, ...]:
    return (*stack[:i], layer, *stack[i + 1 :])


def _middle(zone: Zone) -> tuple[float, float]:
    point = zone.area.representative_point()
    return float(point.x), float(point.y)
