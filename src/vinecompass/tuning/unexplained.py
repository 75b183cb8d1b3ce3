"""Places where a way shown differs from what any price near walls can explain, and the zone that would explain it."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
import shapely
from numpy.typing import NDArray

from vinecompass.costs import price_floor
from vinecompass.geometry import resample_polyline
from vinecompass.grids import Grid, Zone
from vinecompass.planning import Plan
from vinecompass.robot import Robot
from vinecompass.tuning.shown_prices import Compared, ShownPrices, plan_beside
from vinecompass.tuning.shown_ways import SPACING, ShownWay, ways_apart

__all__ = ["Unexplained", "unexplained_places"]

OFF, STRETCH = 0.5, 1.0
"""Metres off the way from which a plan goes elsewhere, and metres for which it must do so to be told."""
HALF_WIDTH, DETOURS, NEARER = 1.0, 5, 0.5
"""Metres to each side of a plan that a zone over it covers, how many ways about it are covered in turn, and times as
far from the way that the plan must then be."""
FACTORS = (1.5, 2.0, 3.0, 5.0, 10.0)
"""What the zone may multiply the price by: the least is proposed that does."""


@dataclass(frozen=True)
class Unexplained:
    """A stretch on which a plan goes elsewhere than the way shown, whatever the prices.

    Parameters
    ----------
    way : str
        Its name.
    place : array, (2,)
        The point of the way farthest from the plan, m; where the way crosses closed floor, if there is no plan.
    off : float
        How far it is off there, m; `inf` if there is no plan.
    zone : Zone or None
        The dear zone, over where the plan goes, with which it takes the way shown; None if no such zone does it.
    """

    way: str
    place: NDArray[np.float64]
    off: float
    zone: Zone | None


def unexplained_places(grid: Grid, robot: Robot, found: ShownPrices, zones: Sequence[Zone] = ()) -> list[Unexplained]:
    """Return where plans with the prices found still go elsewhere, one place a way, the farthest first."""
    costmap = price_floor(grid, robot, zones=zones, settings=found.settings)
    places = []
    for compared in found.ways:
        points = compared.way.poses[:, :2]
        if len(compared.after) == 0:
            closed = ~np.isfinite(grid.values_at(points, costmap.prices, np.inf))
            places.append(Unexplained(compared.way.name, points[int(np.argmax(closed))], np.inf, None))
            continue
        if _elsewhere(compared.after, compared.way):
            off = np.asarray(shapely.distance(shapely.points(points), shapely.LineString(compared.after[:, :2])))
            farthest = int(np.argmax(off))
            zone = _zone(grid, robot, found, compared, zones)
            places.append(Unexplained(compared.way.name, points[farthest], float(off[farthest]), zone))
    return sorted(places, key=lambda place: -place.off)


def _elsewhere(plan: NDArray[np.float64], way: ShownWay) -> list[shapely.LineString]:
    """Return the stretches of a plan that lie off a way."""
    points = resample_polyline(plan, SPACING)
    off = np.asarray(shapely.distance(shapely.points(points), way.line)) > OFF
    edges = np.flatnonzero(np.diff(np.concatenate([[False], off, [False]]).astype(int)))
    lines = [shapely.LineString(points[a:b]) for a, b in zip(edges[::2], edges[1::2], strict=True) if b - a > 1]
    return [line for line in lines if line.length >= STRETCH]


def _zone(grid: Grid, robot: Robot, found: ShownPrices, compared: Compared, zones: Sequence[Zone]) -> Zone | None:
    """Return the cheapest dear zone, over where a plan goes and would go instead, that brings it nearer to its way."""
    way, plan = compared.way, compared.after
    area: shapely.geometry.base.BaseGeometry = shapely.Polygon()
    beside = way.line.buffer(robot.body.inner_radius + grid.cell_size)

    def planned(factor: float) -> tuple[Zone, Plan]:
        corners = shapely.get_coordinates(area)[:-1].round(2).tolist()
        zone = Zone(name=f"not {way.name}", kind="dear", polygon=corners, factor=factor)
        costmap = price_floor(grid, robot, zones=[*zones, zone], settings=found.settings)
        return zone, plan_beside(costmap, robot, way)

    def does(found_plan: Plan) -> bool:
        return found_plan.found and ways_apart(found_plan.poses, way.poses) < NEARER * compared.apart_after

    for _ in range(DETOURS):
        stretches = _elsewhere(plan, way)
        if not stretches:
            return None
        longest = max(stretches, key=lambda line: line.length)
        covered = area.union(longest.buffer(HALF_WIDTH, cap_style="flat")).difference(beside)
        largest = max(getattr(covered, "geoms", [covered]), key=lambda part: part.area)
        area = shapely.Polygon(largest.exterior).simplify(0.1)
        if area.is_empty or not area.is_valid:
            return None
        _, instead = planned(FACTORS[-1])
        if does(instead):
            return next(zone for zone, each in map(planned, FACTORS) if does(each))
        plan = instead.poses
    return None
