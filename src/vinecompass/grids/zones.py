"""Zones: named polygons on the floor that close it, make it dear or slow, or open it one way."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from pydantic import Field, field_validator, model_validator

from vinecompass.door import checked
from vinecompass.files import Model, Number, Speed, read_model
from vinecompass.grids.grid import Grid

__all__ = ["Corners", "Zone", "Zones", "cells_inside", "read_zones", "uncrossed", "zone_cells"]

HAIR = 1e-6
"""Of a cell: borders that only just meet do not touch."""


def uncrossed(polygon: list[tuple[float, float]]) -> list[tuple[float, float]]:
    """Return the corners of a polygon, or raise `ValueError` if it crosses itself or has no area."""
    if len(polygon) == 2:
        return polygon
    shape = shapely.Polygon(polygon)
    if not shape.is_valid:
        raise ValueError(f"polygon crosses itself ({shapely.is_valid_reason(shape)})")
    if shape.area <= 0.0:
        raise ValueError("polygon has no area")
    return polygon


class Corners(Model):
    """Base of everything in a file that is a polygon on the floor."""

    polygon: list[tuple[Number, Number]] = Field(min_length=3, description="[[x, y], ...] of 3 corners or more, m")

    @field_validator("polygon")
    @classmethod
    def _does_not_cross_itself(cls, polygon: list[tuple[float, float]]) -> list[tuple[float, float]]:
        return uncrossed(polygon)


class Zone(Corners):
    """One ``[[zone]]``, of one of four kinds.

    ``closed`` floor is never driven on, in no cell that the zone touches; ``dear`` floor has its price multiplied by
    `factor`; on ``slow`` floor the robot keeps below `speed`, and pays for the time; through a ``one-way`` zone no step
    leads more than a quarter turn off `heading_deg`. A zone of two corners is a line, which can be closed.
    """

    polygon: list[tuple[Number, Number]] = Field(
        min_length=2, description="[[x, y], ...] of 3 corners or more, or the 2 ends of a closed line, m"
    )
    name: str = Field(description="a name")
    kind: Literal["closed", "dear", "slow", "one-way"] = Field(description='"closed", "dear", "slow" or "one-way"')
    factor: Number = Field(1.0, ge=1.0, description="for a dear zone, what its price is multiplied by, 1 or more")
    speed: Speed | None = Field(None, description="for a slow zone, the speed not to exceed, m/s")
    heading_deg: Number | None = Field(None, description="for a one-way zone, where it leads, degrees")

    @model_validator(mode="after")
    def _is_a_polygon_or_a_closed_line(self) -> Zone:
        if len(self.polygon) == 2 and (self.kind != "closed" or self.polygon[0] == self.polygon[1]):
            raise ValueError("a zone of two corners is a line between two places, and closed")
        return self

    @model_validator(mode="after")
    def _has_what_its_kind_needs(self) -> Zone:
        for kind, key in (("dear", "factor"), ("slow", "speed"), ("one-way", "heading_deg")):
            given = getattr(self, key) != type(self).model_fields[key].default
            if self.kind == kind and key not in self.model_fields_set:
                raise ValueError(f"a {kind} zone needs its {key}")
            if self.kind != kind and given:
                raise ValueError(f"{key} belongs to {kind} zones only")
        return self

    @property
    def area(self) -> shapely.Polygon | shapely.LineString:
        """The floor it covers, or the line that it is, in the site frame."""
        return shapely.Polygon(self.polygon) if len(self.polygon) > 2 else shapely.LineString(self.polygon)


Zones = Annotated[list[Zone], Field(max_length=2000)]
"""Those of a map, of which each is laid over it."""


class ZoneFile(Model):
    """A file of zones."""

    zones: Zones = Field(alias="zone", description="[[zone]] tables")


@checked
def read_zones(path: str | Path) -> list[Zone]:
    """Read a TOML file of ``[[zone]]`` tables, in site metres; raise `InputError` for what is wrong in it."""
    return read_model(path, ZoneFile, kind="zones").zones


def zone_cells(grid: Grid, zone: Zone) -> NDArray[np.bool_]:
    """Tell which cells ``(rows, columns)`` a zone rules: those it touches if closed, else with their centre in it."""
    inside = cells_inside(grid, zone.polygon)
    if zone.kind != "closed":
        return inside
    area, map_edge = zone.area, shapely.Polygon(grid.corner_points)
    outline = area.boundary if isinstance(area, shapely.Polygon) else area
    on_map = shapely.segmentize(shapely.intersection(outline, map_edge.buffer(grid.cell_size)), 0.5 * grid.cell_size)
    beside = np.argwhere(np.ones((3, 3))) - 1
    near = np.unique(
        (grid.cells_at(shapely.get_coordinates(on_map).reshape(-1, 2))[:, None] + beside).reshape(-1, 2), axis=0
    )
    near = near[grid.contains(near)]
    # A polygon that ends on the border between two cells touches the one inside only; a line touches both.
    half = 0.5 - HAIR if len(zone.polygon) > 2 else 0.5 + HAIR
    square = half * np.array([[-1.0, -1.0], [-1.0, 1.0], [1.0, 1.0], [1.0, -1.0]])
    corners = grid.points_of((near[:, None] + square).reshape(-1, 2)).reshape(-1, 4, 2)
    inside[tuple(near.T)] |= shapely.intersects(area, shapely.polygons(corners))
    return inside


def cells_inside(grid: Grid, polygon: Sequence[tuple[float, ...]]) -> NDArray[np.bool_]:
    """Tell which cells ``(rows, columns)`` of a grid have their centre in a polygon given in the site frame."""
    inside = np.zeros(grid.shape, dtype=bool)
    # Only the cells about the polygon's corners are asked; a grid is large and a zone is small.
    corners = grid.cells_at(polygon)
    first, last = np.maximum(corners.min(0), 0), np.minimum(corners.max(0) + 1, grid.shape)
    if np.any(first >= last):
        return inside
    rows, columns = np.mgrid[first[0] : last[0], first[1] : last[1]]
    centres = grid.points_of(np.stack([rows.ravel(), columns.ravel()], axis=-1))
    shape = shapely.Polygon(polygon) if len(polygon) > 2 else shapely.Polygon()
    shapely.prepare(shape)
    inside[rows, columns] = np.reshape(shapely.contains_xy(shape, centres[:, 0], centres[:, 1]), rows.shape)
    return inside
