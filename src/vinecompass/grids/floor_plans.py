"""Maps made of drawn floor plans: walls and things as lines and polygons, of GeoJSON or DXF."""

from __future__ import annotations

import json
import logging
from collections.abc import Iterable, Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy import ndimage
from shapely.geometry import shape
from shapely.geometry.base import BaseGeometry

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.files import read_bytes
from vinecompass.geometry import check_length
from vinecompass.grids.clearance import clearance
from vinecompass.grids.grid import MOST_CELLS, Grid

__all__ = ["FloorPlan", "grid_from_plan", "read_floor_plan"]

KINDS = ("wall", "solid", "floor")
LARGEST_PLAN = 64 * 2**20
"""Bytes."""
MOST_POINTS = 5_000_000
FARTHEST = 1e5
"""Metres from the origin, of the site or of the plan's middle."""
UNITS = {"mm": 0.001, "cm": 0.01, "m": 1.0, "in": 0.0254, "ft": 0.3048}
UNIT_CODES = {1: "in", 2: "ft", 4: "mm", 5: "cm", 6: "m"}
"""Of a DXF file's header."""
FLATNESS = 2e-4
"""Share of a drawing's size by which straight lines may be off its curves: 1 cm of 50 m."""
NO_LINES = ("TEXT", "MTEXT", "ATTRIB", "ATTDEF", "POINT", "HATCH", "DIMENSION")
"""What a drawing holds that is no wall."""
MARGIN_CELLS = 2
"""Unknown cells that are left round the plan."""
INSIDE_A_WALL = 0.2
"""Metres of clearance below which floor that nothing leads to lies between the two lines of a wall."""
FREE, OCCUPIED = -5.0, 5.0
"""Log-odds."""


@dataclass(frozen=True)
class FloorPlan:
    """A drawn floor plan in the site frame, m.

    Parameters
    ----------
    walls : sequence of geometry
        Lines and polygons: what they touch is occupied.
    floors : sequence of geometry
        Polygons: what lies in them is free. If there are none, all is that walls enclose.
    """

    walls: Sequence[BaseGeometry]
    floors: Sequence[BaseGeometry] = ()


@checked
def read_floor_plan(path: str | Path, *, unit: str | None = None, layers: Sequence[str] = ()) -> FloorPlan:
    """Read a floor plan: GeoJSON in metres, or DXF (with `ezdxf`, of the extra ``[plans]``).

    Of GeoJSON, a feature's property ``kind`` is "wall", "solid" or "floor"; lines without it are walls, and polygons
    solid. Of DXF, all lines, arcs, circles, polylines and splines are walls, also in blocks.

    Parameters
    ----------
    path : path-like
        Its suffix is ``.geojson``, ``.json`` or ``.dxf``.
    unit : str, optional
        One of "mm", "cm", "m", "in" and "ft"; that of the DXF file's header if not given.
    layers : sequence of str
        Of a DXF file, those that are walls; all if none is named.

    Raises
    ------
    InputError
        The file is no floor plan, or holds nothing; or its unit is not known.
    """
    path = Path(path)
    if unit is not None and unit not in UNITS:
        raise InputError("is no unit", key="unit", value=unit, expected=f"one of {', '.join(UNITS)}")
    if path.suffix.lower() == ".dxf":
        return _read_dxf(path, unit, layers)
    if unit not in (None, "m") or layers:
        raise InputError("are for DXF", file=path, key="unit and layers", expected="GeoJSON in metres without them")
    return _read_geojson(path)


def _read_geojson(path: Path) -> FloorPlan:
    try:
        document = json.loads(read_bytes(path, largest=LARGEST_PLAN))
        features = document["features"] if document["type"] == "FeatureCollection" else None
    except (ValueError, KeyError, TypeError, RecursionError):
        features = None
    if not isinstance(features, list):
        raise InputError("is no floor plan", file=path, expected="a GeoJSON FeatureCollection")
    by_kind: dict[str, list[BaseGeometry]] = {kind: [] for kind in KINDS}
    for number, feature in enumerate(features, start=1):
        where = f"feature {number}"
        geometry, kind = _feature(feature, where, path)
        by_kind[kind].append(geometry)
    return _whole(FloorPlan([*by_kind["wall"], *by_kind["solid"]], by_kind["floor"]), path)


def _feature(feature: Any, where: str, path: Path) -> tuple[BaseGeometry, str]:
    """Return the geometry of a GeoJSON feature and its kind."""
    try:
        geometry = shapely.force_2d(shape(feature["geometry"]))
        told = (feature.get("properties") or {}).get("kind")
    except Exception as error:  # Shapely raises whatever the text makes it stumble over.
        raise InputError(
            f"holds no geometry ({type(error).__name__})", file=path, key=where, expected="lines and polygons"
        ) from None
    flat = "Polygon" in geometry.geom_type
    if not flat and "LineString" not in geometry.geom_type:
        raise InputError(
            "is no floor plan's", file=path, key=where, value=geometry.geom_type, expected="a line or polygon"
        )
    kind = told or ("solid" if flat else "wall")
    if kind not in KINDS or (kind == "floor" and not flat):
        raise InputError("is no kind of it", file=path, key=f"{where}.kind", value=kind, expected=", ".join(KINDS))
    if not geometry.is_valid:
        raise InputError(
            f"crosses itself ({shapely.is_valid_reason(geometry)})", file=path, key=where, expected="a plain polygon"
        )
    return geometry, kind


def _read_dxf(path: Path, unit: str | None, layers: Sequence[str]) -> FloorPlan:
    try:
        from ezdxf.filemanagement import readfile
    except ModuleNotFoundError:
        raise InputError("needs ezdxf", file=path, expected='pip install "vinecompass[plans]"') from None
    read_bytes(path, largest=LARGEST_PLAN)  # Raises, and says why it cannot be read.
    # What it mends in a broken drawing it would tell on standard error.
    logging.getLogger("ezdxf").setLevel(logging.CRITICAL)
    try:
        drawing = readfile(path)
        entities = _lines_of(drawing)
        code, known = UNIT_CODES.get(drawing.units), sorted(layer.dxf.name for layer in drawing.layers)
    except Exception as error:  # Whatever a broken drawing makes ezdxf stumble over.
        raise InputError(f"is no DXF file ({type(error).__name__})", file=path, expected="a drawing") from None
    if unit is None and code is None:
        raise InputError("has no unit", file=path, key="unit", expected=f"one of {', '.join(UNITS)}")
    for layer in layers:
        if layer not in known:
            expected = f"one of {', '.join(known)}"
            raise InputError("is no layer", file=path, key="layer", value=layer, expected=expected)
    scale = UNITS[unit or code or "m"]
    lines = [shapely.LineString(scale * points) for layer, points in entities if not layers or layer in layers]
    return _whole(FloorPlan(lines), path)


def _lines_of(drawing: Any) -> list[tuple[str, NDArray[np.float64]]]:
    """Return the layer and the points ``(N, 2)`` of every line of a drawing, in its units; curves as short lines."""
    from ezdxf import disassemble

    parts = list(disassemble.recursive_decompose(drawing.modelspace()))
    drawn = [part for part in parts if part.dxftype() not in NO_LINES]
    extent = [point for one in disassemble.to_primitives(drawn) for point in one.vertices()][:MOST_POINTS]
    size = float(np.ptp([(point.x, point.y) for point in extent], axis=0).max()) if extent else 1.0
    lines = []
    for primitive in disassemble.to_primitives(drawn, max_flattening_distance=max(FLATNESS * size, 1e-9)):
        points = np.array([(point.x, point.y) for point in primitive.vertices()])
        if len(points) > 1 and np.all(np.isfinite(points)):
            lines.append((str(primitive.entity.dxf.layer), points))
    return lines


def _whole(plan: FloorPlan, path: Path) -> FloorPlan:
    """Return a plan that has something in it, and no more than there is room for; or raise `InputError`."""
    parts = [*plan.walls, *plan.floors]
    if not plan.walls:
        raise InputError("has no walls", file=path, expected="lines or polygons")
    points = shapely.get_coordinates(parts)
    if len(points) > MOST_POINTS or not np.all(np.isfinite(points)) or np.abs(points).max() > FARTHEST:
        raise InputError("is too large", file=path, expected=f"{MOST_POINTS} points within {FARTHEST:.0f} m")
    return plan


@checked
def grid_from_plan(plan: FloorPlan, cell_size: float) -> Grid:
    """Make a map of a floor plan.

    Cells that a wall or a thing touches are occupied. Free is what lies on a floor or, if the plan has none, what walls
    enclose; the rest is unknown. What lies between the two lines of a wall, 0.4 m apart or less, is occupied.

    Parameters
    ----------
    plan : FloorPlan
    cell_size : float
        Metres.

    Raises
    ------
    InputError
        Nothing is enclosed, or the map would be too large.

    Examples
    --------
    >>> from shapely import LineString
    >>> corners = [(0.02, 0.02), (4.02, 0.02), (4.02, 3.02), (0.02, 3.02), (0.02, 0.02)]
    >>> grid = grid_from_plan(FloorPlan([LineString(corners)]), 0.05)
    >>> int(grid.free.sum()) == 79 * 59
    True
    """
    check_length(cell_size, "cell_size")
    low_x, low_y, high_x, high_y = shapely.total_bounds([*plan.walls, *plan.floors])
    low = np.floor(np.array([low_x, low_y]) / cell_size) - MARGIN_CELLS
    columns, rows = (np.ceil(np.array([high_x, high_y]) / cell_size) + MARGIN_CELLS - low).astype(int)
    if rows * columns > MOST_CELLS:
        size = f"{rows} x {columns}"
        raise InputError("makes too large a map", key="cell_size", value=size, expected=f"{MOST_CELLS} cells at most")
    x, y = low * cell_size
    grid = Grid(np.zeros((rows, columns), np.float32), cell_size, (float(x), float(y)))
    occupied = _touched(grid, plan.walls)
    if plan.floors:
        free = _inside(grid, plan.floors) & ~occupied
    else:
        rooms, _ = ndimage.label(~occupied)
        free = (rooms > 0) & (rooms != rooms[0, 0])
        if not np.any(free):
            raise InputError("enclose nothing", key="walls", expected='closed rooms, or a polygon of kind "floor"')
        room = clearance(occupied, cell_size)
        widest = ndimage.maximum(room, rooms, np.arange(rooms.max() + 1))
        narrow = (widest < INSIDE_A_WALL)[rooms] & free
        occupied, free = occupied | narrow, free & ~narrow
    grid.log_odds[free], grid.log_odds[occupied] = FREE, OCCUPIED
    return grid


def _touched(grid: Grid, parts: Iterable[BaseGeometry]) -> NDArray[np.bool_]:
    """Tell which cells lines and polygons touch, or hold."""
    solid = [part for part in parts if "Polygon" in part.geom_type]
    touched = _inside(grid, solid)
    hair = 1e-6 * grid.cell_size
    for part in parts:
        # A polygon that only borders on a cell does not reach into it.
        outline = part.buffer(-hair).boundary if "Polygon" in part.geom_type else part
        points = shapely.get_coordinates(shapely.segmentize(outline, 0.1 * grid.cell_size))
        cells = grid.cells_at(points.reshape(-1, 2))
        touched[tuple(cells[grid.contains(cells)].T)] = True
    return touched


def _inside(grid: Grid, polygons: Iterable[BaseGeometry]) -> NDArray[np.bool_]:
    """Tell which cells have their middle in one of the polygons."""
    inside = np.zeros(grid.shape, bool)
    for polygon in polygons:
        corners = grid.cells_at(np.array(polygon.bounds).reshape(2, 2))
        first, last = np.maximum(corners[0], 0), np.minimum(corners[1] + 1, grid.shape)
        block = np.s_[first[0] : last[0], first[1] : last[1]]
        cells = np.argwhere(np.ones(inside[block].shape, bool)) + first
        inside[block] |= shapely.contains_xy(polygon, *grid.points_of(cells).T).reshape(inside[block].shape)
    return inside
