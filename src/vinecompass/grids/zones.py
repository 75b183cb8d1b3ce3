"""Zones: named polygons on the floor that close it or make it dear."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path
from typing import Literal

import numpy as np
import shapely
from numpy.typing import NDArray
from pydantic import Field, field_validator, model_validator

from vinecompass.files import Model, Number, read_model
from vinecompass.grids.grid import Grid

__all__ = ["Corners", "Zone", "cells_inside", "read_zones"]


class Corners(Model):
    """Base of everything in a file that is a polygon on the floor."""

    polygon: list[tuple[Number, Number]] = Field(min_length=3, description="[[x, y], ...] of 3 corners or more, m")

    @field_validator("polygon")
    @classmethod
    def _does_not_cross_itself(cls, polygon: list[tuple[float, float]]) -> list[tuple[float, float]]:
        shape = shapely.Polygon(polygon)
        if not shape.is_valid:
            raise ValueError(f"polygon crosses itself ({shapely.is_valid_reason(shape)})")
        return polygon


class Zone(Corners):
    """One ``[[zone]]``: ``closed`` floor is never driven on; ``dear`` floor has its price multiplied."""

    name: str = Field(description="a name")
    kind: Literal["closed", "dear"] = Field(description='"closed" or "dear"')
    factor: Number = Field(1.0, ge=1.0, description="for a dear zone, what its price is multiplied by, 1 or more")

    @model_validator(mode="after")
    def _factor_is_for_dear(self) -> Zone:
        if self.kind == "dear" and "factor" not in self.model_fields_set:
            raise ValueError("a dear zone needs its factor")
        if self.kind == "closed" and self.factor != 1.0:
            raise ValueError("factor belongs to dear zones only")
        return self


class ZoneFile(Model):
    """A file of zones."""

    zone: list[Zone] = Field(description="[[zone]] tables")


def read_zones(path: str | Path) -> list[Zone]:
    """Read a TOML file of ``[[zone]]`` tables, in site metres; raise `InputError` for what is wrong in it."""
    return read_model(path, ZoneFile, kind="zones").zone


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
    shape = shapely.Polygon(polygon)
    shapely.prepare(shape)
    inside[rows, columns] = np.reshape(shapely.contains_xy(shape, centres[:, 0], centres[:, 1]), rows.shape)
    return inside
