"""Edits of a map, as they are written down beside it."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from typing import Annotated, Any, Literal

from pydantic import Field, model_validator

from vinecompass.files import Model, NotNegative, Number, Positive, Size, validated
from vinecompass.grids.zones import Zone, uncrossed

__all__ = [
    "AddZone",
    "Crop",
    "Edit",
    "Merge",
    "Origin",
    "Paint",
    "Pockets",
    "Resample",
    "Specks",
    "Turn",
    "check_edits",
]

Point = tuple[Number, Number]


class Paint(Model):
    """Give the cells of a shape one reading: those along a line, or those in a polygon."""

    do: Literal["paint"] = "paint"
    reading: Literal["occupied", "free", "unknown"] = Field(description='"occupied", "free" or "unknown"')
    line: list[Point] | None = Field(None, min_length=2, description="[[x, y], ...] of 2 points or more, m")
    width: NotNegative = Field(0.0, description="of the line, m; never less than a cell")
    polygon: list[Point] | None = Field(None, min_length=3, description="[[x, y], ...] of 3 corners or more, m")

    @model_validator(mode="after")
    def _one_shape(self) -> Paint:
        if (self.line is None) == (self.polygon is None):
            raise ValueError("needs either a line or a polygon")
        if self.polygon is not None:
            uncrossed(self.polygon)
        return self


class Specks(Model):
    """Clear occupied specks up to an area; cells near each other, as those of a dotted wall, count as one thing."""

    do: Literal["specks"] = "specks"
    area_m2: Positive = Field(description="m2")


class Pockets(Model):
    """Fill pockets of unknown floor, up to an area, with what surrounds most of each."""

    do: Literal["pockets"] = "pockets"
    area_m2: Positive = Field(description="m2")


class Crop(Model):
    """Keep what lies between two corners."""

    do: Literal["crop"] = "crop"
    low: Point = Field(description="[x, y], m")
    high: Point = Field(description="[x, y], m")


class Resample(Model):
    """Change the size of the cells."""

    do: Literal["resample"] = "resample"
    cell_size: Size = Field(description="m")


class Turn(Model):
    """Turn the site frame by an angle about its origin, and lay the cells along its axes."""

    do: Literal["turn"] = "turn"
    turn_deg: Number = Field(description="degrees")


class Origin(Model):
    """Move the origin of the site frame to a pose."""

    do: Literal["origin"] = "origin"
    pose: tuple[Number, Number, Number] = Field(description="[x, y, heading_deg]")


class Merge(Model):
    """Lay another map of the same floor over this one."""

    do: Literal["merge"] = "merge"
    map: str = Field(description="a file name in the same folder")
    pose: tuple[Number, Number, Number] = Field(description="[x, y, heading_deg] of its site frame in this one")


class AddZone(Model):
    """Add a zone."""

    do: Literal["zone"] = "zone"
    zone: Zone = Field(description="a zone")


Edit = Annotated[
    Paint | Specks | Pockets | Crop | Resample | Turn | Origin | Merge | AddZone, Field(discriminator="do")
]


class _Edits(Model):
    edit: list[Edit] = Field(description="edits")


def check_edits(edits: Sequence[Mapping[str, Any]]) -> list[Edit]:
    """Make edits of plain values, as they stand in a map's file; raise `InputError` for what is wrong with them.

    >>> check_edits([{"do": "specks", "area_m2": 0.02}])[0].area_m2
    0.02
    """
    return validated(_Edits, {"edit": list(edits)}, "edits").edit
