"""What may close a way and could be taken away: zones, obstacles, layers of the user's own, unknown floor."""

from __future__ import annotations

from collections.abc import Callable, Iterator, Sequence
from dataclasses import dataclass, replace

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vinecompass.costs import CostMap, Layer, MapLayer, PeopleLayer, PointsLayer, ZoneLayer
from vinecompass.grids import Zone, zone_cells
from vinecompass.robot import Robot

__all__ = ["Suspect", "suspects", "without"]

Mask = NDArray[np.bool_]
ONE_OBSTACLE_CELLS = 3
"""Cells: obstacles no farther apart than twice this are one."""
MOST_APART = 12
"""Separate obstacles that are looked at one by one; of more, only all at once."""
MOST_ZONES = 30
"""Zones that are looked at one by one, the largest first; of more, the rest at once."""


@dataclass(frozen=True)
class Suspect:
    """One thing that may close a way.

    Parameters
    ----------
    cause : str
        What kind of thing.
    what : str
        What it is called.
    cells : array of bool, (rows, columns)
        What it closes.
    place : (x, y) or None
        Where it is, in the site frame, m; None if that depends on the way.
    layer : str
        The name of the layer that it belongs to.
    take : callable
        Returns that layer without it, or None if nothing is left of it.
    many : bool
        Whether it is more than one thing.
    """

    cause: str
    what: str
    cells: Mask
    place: tuple[float, float] | None
    layer: str
    take: Callable[[Layer, Robot], Layer | None]
    many: bool = False


def without(stack: Sequence[Layer], taken: Suspect, robot: Robot) -> tuple[Layer, ...]:
    """Return a stack of layers without a suspect."""
    rest = [taken.take(layer, robot) if layer.name == taken.layer else layer for layer in stack]
    return tuple(layer for layer in rest if layer is not None)


def suspects(costmap: CostMap) -> list[Suspect]:
    """Return what closes any floor and could be taken away, the easiest first."""
    found: list[Suspect] = []
    for layer in costmap.stack[:-1]:
        shut = np.isinf(costmap.layers[layer.name])
        if isinstance(layer, ZoneLayer):
            found += _zones(costmap, layer)
        elif isinstance(layer, PeopleLayer | MapLayer) or not np.any(shut):
            continue
        elif layer.name == "obstacles":
            found += _obstacles(costmap, shut)
        else:
            found.append(Suspect("layer", f"the layer {layer.name!r}", shut, None, layer.name, _nothing))
    for layer in costmap.stack[:-1]:
        unknown = costmap.grid.unknown
        if isinstance(layer, MapLayer) and layer.unknown == "closed" and np.any(unknown):
            found.append(Suspect("unknown", "unknown floor", unknown, None, layer.name, _with_unknown_free))
    return found


def _nothing(layer: Layer, robot: Robot) -> None:
    return None


def _with_unknown_free(layer: Layer, robot: Robot) -> Layer:
    assert isinstance(layer, MapLayer)
    return replace(layer, unknown="free")


def _zones(costmap: CostMap, layer: ZoneLayer) -> Iterator[Suspect]:
    shut = [zone for zone in layer.zones if zone.kind in ("closed", "one-way")]
    shut.sort(key=lambda zone: -zone.area.area)
    single = [[zone] for zone in shut[:MOST_ZONES]]
    for some in single + ([shut[MOST_ZONES:]] if len(shut) > MOST_ZONES else []):
        cells = np.any([zone_cells(costmap.grid, zone) for zone in some], axis=0)
        kind, names = some[0].kind, " and ".join(repr(zone.name) for zone in some[:3])
        what = f"the {kind} zone {names}" if len(some) == 1 else f"{len(some)} zones, as {names},"
        cause = "zone" if kind == "closed" else "one-way zone"
        yield Suspect(cause, what, cells, _middle(some[0]), layer.name, _without_zones(some), len(some) > 1)


def _without_zones(taken: list[Zone]) -> Callable[[Layer, Robot], Layer]:
    def take(layer: Layer, robot: Robot) -> Layer:
        assert isinstance(layer, ZoneLayer)
        return replace(layer, zones=[zone for zone in layer.zones if not any(zone is other for other in taken)])

    return take


def _obstacles(costmap: CostMap, shut: Mask) -> Iterator[Suspect]:
    grid = costmap.grid
    labels, count = ndimage.label(ndimage.binary_dilation(shut, iterations=ONE_OBSTACLE_CELLS))
    if count > MOST_APART:
        yield Suspect("obstacle", f"{count} obstacles", shut, None, "obstacles", _nothing, many=True)
        return
    for label in range(1, count + 1):
        one = shut & (labels == label)
        points = grid.points_of(np.argwhere(one))
        x, y = (float(value) for value in points.mean(axis=0))
        what = f"the obstacle at {x:.2f}, {y:.2f} ({costmap.why('obstacles', *points[0])})"
        yield Suspect("obstacle", what, one, (x, y), "obstacles", _without_obstacle(costmap, one))


def _without_obstacle(costmap: CostMap, taken: Mask) -> Callable[[Layer, Robot], Layer]:
    def take(layer: Layer, robot: Robot) -> Layer:
        left = np.isinf(layer.charge(costmap.grid, robot)) & ~taken
        return PointsLayer(costmap.grid, costmap.grid.points_of(np.argwhere(left)), name=layer.name)

    return take


def _middle(zone: Zone) -> tuple[float, float]:
    point = zone.area.representative_point()
    return float(point.x), float(point.y)
