"""vinecompass import map: make a map of a picture or a drawn floor plan."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.common import FiniteRange, Outcome, find_point, json_option, picture_option, tell
from vinecompass.cli.outputs import FILE, OUT, Writing
from vinecompass.errors import InputError

if TYPE_CHECKING:
    from vinecompass.grids import Grid

__all__ = ["ImportMapOptions", "import_map_command", "run_import_map"]

PLANS = (".geojson", ".json", ".dxf")
MOST_LEVELS = 6
"""Levels of grey that are told."""


@click.command("map", cls=Writing, short_help="Make a map of a picture or a drawn floor plan.")
@click.argument("drawing", type=FILE)
@click.option("--cell-size", type=FiniteRange(0.001, 10.0), required=True, help="Side of a cell, or of a pixel, m.")
@click.option("--corner", help="Where the picture's lower left corner lies in the site, x,y; 0,0 if not given.")
@click.option("--turn-deg", type=FiniteRange(-360.0, 360.0), help="Heading of the picture's rows in the site, degrees.")
@click.option("--occupied-below", type=FiniteRange(0.0, 255.0), help="Grey, 0 to 255, below which it is occupied; 102.")
@click.option("--free-above", type=FiniteRange(0.0, 255.0), help="Grey above which it is free; 153 if not given.")
@click.option("--unknown", type=FiniteRange(0.0, 255.0), help="The grey that is unknown, if there is such a one.")
@click.option("--unit", help="Of a DXF drawing: mm, cm, m, in or ft; what the drawing says, if not given.")
@click.option("--layer", "layers", multiple=True, help="Of a DXF drawing: a layer with walls; all, if none is named.")
@click.option("-o", "--out", type=OUT, required=True, help="The map to write, a .png file.")
@picture_option
@json_option
def import_map_command(as_json: bool, **given: Any) -> int:
    """Make a map of DRAWING: a picture (PNG or PGM), or a floor plan (GeoJSON in metres, or DXF).

    It tells what it read as free, occupied and unknown: look before anyone relies on it.
    """
    return tell(run_import_map(ImportMapOptions(**given)), as_json)


@dataclass(frozen=True)
class ImportMapOptions:
    """What the command is given, as its help tells."""

    drawing: Path
    cell_size: float
    out: Path
    corner: str | None = None
    turn_deg: float | None = None
    occupied_below: float | None = None
    free_above: float | None = None
    unknown: float | None = None
    unit: str | None = None
    layers: tuple[str, ...] = ()
    picture: Path | None = None


def run_import_map(given: ImportMapOptions) -> Outcome:
    """Do what the command does."""
    from vinecompass.grids import write_map

    planned = given.drawing.suffix.lower() in PLANS
    grid = _from_plan(given) if planned else _from_picture(given)
    write_map(grid, given.out)
    files = {"map": str(given.out)}
    if given.picture is not None:
        from vinecompass.figures import draw_map, save_figure

        files["picture"] = str(save_figure(draw_map(grid), given.picture))
    area = grid.cell_size**2
    numbers = {name: float(cells.sum()) * area for name, cells in _readings(grid).items()}
    rows, columns = grid.shape
    line = f"{columns * grid.cell_size:.1f} m x {rows * grid.cell_size:.1f} m: " + ", ".join(
        f"{value:.1f} m2 {name}" for name, value in numbers.items()
    )
    return Outcome(
        "import map",
        line,
        quality={f"{name}_m2": value for name, value in numbers.items()},
        files=files,
        details=[] if planned else _levels(given, grid),
        hint=f"vinecompass price {given.out} --robot robot.toml --picture price.png",
    )


def _from_plan(given: ImportMapOptions) -> Grid:
    from vinecompass.grids import grid_from_plan, read_floor_plan

    for option, value in (
        ("--corner", given.corner),
        ("--turn-deg", given.turn_deg),
        ("--occupied-below", given.occupied_below),
        ("--free-above", given.free_above),
        ("--unknown", given.unknown),
    ):
        if value is not None:
            raise InputError("belongs to pictures", key=option, value=value, expected="a PNG or PGM")
    return grid_from_plan(read_floor_plan(given.drawing, unit=given.unit, layers=given.layers), given.cell_size)


def _from_picture(given: ImportMapOptions) -> Grid:
    from math import radians

    from vinecompass.grids import grid_from_picture

    if given.unit is not None or given.layers:
        raise InputError("belong to DXF drawings", key="--unit and --layer", expected="a .dxf file")
    named = {"occupied_below": given.occupied_below, "free_above": given.free_above, "unknown": given.unknown}
    corner = find_point(given.corner, option="--corner") if given.corner else (0.0, 0.0)
    return grid_from_picture(
        given.drawing,
        given.cell_size,
        (float(corner[0]), float(corner[1])),
        radians(given.turn_deg or 0.0),
        **{name: value for name, value in named.items() if value is not None},
    )


def _readings(grid: Grid) -> dict[str, Any]:
    return {"free": grid.free, "occupied": grid.occupied, "unknown": grid.unknown}


def _levels(given: ImportMapOptions, grid: Grid) -> list[str]:
    """Return as what the commonest levels of grey were read."""
    import numpy as np

    from vinecompass.grids import grey_levels

    grey, observed = grey_levels(given.drawing)
    counts = np.bincount(grey[observed], minlength=256)
    readings = {name: cells[::-1] for name, cells in _readings(grid).items()}
    told = []
    for level in np.argsort(-counts, kind="stable")[:MOST_LEVELS]:
        alike = (grey == level) & observed
        if counts[level]:
            name = max(readings, key=lambda one: int(np.sum(readings[one] & alike)))
            told.append(f"grey {level:3d}: {100.0 * counts[level] / grey.size:5.1f} % of the picture, read as {name}")
    clear = 1.0 - float(np.mean(observed))
    return told + ([f"transparent: {100.0 * clear:.1f} % of the picture, unknown"] if clear else [])
