"""Replaying edits on a map."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import replace
from pathlib import Path

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy import ndimage

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import inverse, transform_points
from vinecompass.grids.edits import AddZone, Crop, Edit, Merge, Origin, Paint, Pockets, Resample, Specks, Turn
from vinecompass.grids.grid import BY_HAND, Grid
from vinecompass.grids.map_files import read_map
from vinecompass.grids.resampling import cropped, in_frame, overlaid, resampled
from vinecompass.grids.zones import Zone, cells_inside, zone_cells

__all__ = ["apply_edits"]

ONE_SPECK_WITHIN = 0.2
"""Metres between occupied cells that belong to one thing."""
PAINTED = {"occupied": BY_HAND, "free": -5.0, "unknown": 0.0}
"""Log-odds of what a person painted."""


@checked
def apply_edits(grid: Grid, edits: Sequence[Edit], *, folder: Path) -> tuple[Grid, list[Zone]]:
    """Replay edits on a map; return it and its zones.

    Parameters
    ----------
    grid : Grid
    edits : sequence of Edit
        In the order they are to be done; coordinates are in the site frame as it is then.
    folder : Path
        Where maps to be merged lie.

    Raises
    ------
    InputError
        An edit cannot be done: a crop or a shape off the map, a map to merge that is missing or outside of the folder.
    """
    zones: list[Zone] = []
    for edit in edits:
        match edit:
            case Paint():
                cells = _shape_cells(grid, edit)
                if not np.any(cells):
                    shape = edit.polygon or edit.line
                    raise InputError("lies off the map", key="paint", value=shape, expected="a shape on the map")
                grid = _painted(grid, cells, edit.reading)
            case Specks():
                grid = _painted(grid, _specks(grid, edit.area_m2), "free")
            case Pockets():
                grid = _filled(grid, edit.area_m2)
            case Crop():
                grid = cropped(grid, edit.low, edit.high)
            case Resample():
                grid = resampled(grid, edit.cell_size, grid.turn)
            case Turn():
                frame = np.array([0.0, 0.0, np.radians(edit.turn_deg)])
                grid = resampled(in_frame(grid, frame), grid.cell_size)
                zones = [_seen_from(frame, zone) for zone in zones]
            case Origin():
                frame = _pose(edit.pose)
                grid = in_frame(grid, frame)
                zones = [_seen_from(frame, zone) for zone in zones]
            case Merge():
                grid = overlaid(grid, _other_map(edit, folder))
            case AddZone():
                if not np.any(zone_cells(grid, edit.zone)):
                    name = edit.zone.name
                    raise InputError("lies off the map", key="zone", value=name, expected="a polygon on the map")
                zones = [zone for zone in zones if zone.name != edit.zone.name] + [edit.zone]
    return grid, zones


def _pose(pose: tuple[float, float, float]) -> NDArray[np.float64]:
    return np.array([pose[0], pose[1], np.radians(pose[2])])


def _seen_from(frame: NDArray[np.float64], zone: Zone) -> Zone:
    corners = transform_points(inverse(frame), zone.polygon)
    return zone.model_copy(update={"polygon": [(round(float(x), 4), round(float(y), 4)) for x, y in corners]})


def _other_map(edit: Merge, folder: Path) -> Grid:
    if Path(edit.map).name != edit.map:
        raise InputError("leaves its folder", key="merge", value=edit.map, expected="a file name without a path")
    return in_frame(read_map(folder / edit.map), inverse(_pose(edit.pose)))


def _shape_cells(grid: Grid, edit: Paint) -> NDArray[np.bool_]:
    """Return the cells ``(rows, columns)`` of an edit's shape: of a line, those that it touches."""
    if edit.polygon is not None:
        return cells_inside(grid, edit.polygon)
    assert edit.line is not None
    line = shapely.LineString(edit.line)
    # A cell's centre lies within half its diagonal of any line through the cell; half a side leaves no hole.
    shape = line.buffer(max(0.5 * edit.width, 0.5 * grid.cell_size) + 1e-9, quad_segs=8)
    inside = cells_inside(grid, shape.exterior.coords[:-1])
    # A line that meets itself has holes.
    for hole in shape.interiors:
        inside &= ~cells_inside(grid, hole.coords[:-1])
    return inside


def _painted(grid: Grid, cells: NDArray[np.bool_], reading: str) -> Grid:
    return replace(grid, log_odds=np.where(cells, np.float32(PAINTED[reading]), grid.log_odds))


def _specks(grid: Grid, area_m2: float) -> NDArray[np.bool_]:
    """Return the occupied specks up to an area; cells within `ONE_SPECK_WITHIN` of each other belong together."""
    # Else a wall seen from afar, which is a row of dots, would go as well.
    reach = max(round(0.5 * ONE_SPECK_WITHIN / grid.cell_size), 1)
    labels, _ = ndimage.label(ndimage.binary_dilation(grid.occupied, iterations=reach), structure=np.ones((3, 3)))
    sizes = np.bincount(labels[grid.occupied], minlength=labels.max() + 1)
    return np.asarray(grid.occupied & (sizes[labels] * grid.cell_size**2 <= area_m2 + 1e-9))


def _filled(grid: Grid, area_m2: float) -> Grid:
    labels, _ = ndimage.label(grid.unknown)
    small = grid.unknown & (np.bincount(labels.ravel())[labels] * grid.cell_size**2 <= area_m2 + 1e-9)
    # What reaches the edge of the map is not enclosed.
    small &= ~np.isin(labels, np.concatenate([labels[0], labels[-1], labels[:, 0], labels[:, -1]]))
    labels, count = ndimage.label(small)
    numbers = np.arange(1, count + 1)
    around = {}
    for name, mask in (("occupied", grid.occupied), ("free", grid.free)):
        borders = np.zeros(count)
        for shift in ((1, 0), (-1, 0), (0, 1), (0, -1)):
            # No pocket reaches the edge, so nothing comes round it.
            borders += np.bincount(np.roll(labels, shift, axis=(0, 1))[mask], minlength=count + 1)[1:]
        around[name] = borders
    solid = np.isin(labels, numbers[around["occupied"] > around["free"]])
    return _painted(_painted(grid, solid, "occupied"), small & ~solid, "free")
