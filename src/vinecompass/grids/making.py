"""Maps made without a robot: from a drawing in text, a picture, or polygons."""

from __future__ import annotations

from collections.abc import Sequence
from pathlib import Path

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.files import read_bytes
from vinecompass.geometry import check_length, checked_points, resample_polyline
from vinecompass.grids.grid import Grid
from vinecompass.grids.map_files import LARGEST_FILE, decode_picture, readings_of_grey

__all__ = ["grid_from_drawing", "grid_from_picture", "grid_from_polygons"]

SIGNS = {"#": 5.0, ".": -5.0, " ": 0.0}
"""Log-odds of a drawing's signs: occupied, free, unknown."""


@checked
def grid_from_drawing(drawing: str, cell_size: float, corner: tuple[float, float] = (0.0, 0.0)) -> Grid:
    """Make a map of a drawing in text: ``#`` is occupied, ``.`` free, a space unknown; the first line lies on top.

    Parameters
    ----------
    drawing : str
        Lines of these signs; shorter ones end in unknown cells.
    cell_size : float
        Metres.
    corner : (x, y)
        Of the lowest, leftmost cell, m.

    Raises
    ------
    InputError
        Another sign, or nothing drawn.

    Examples
    --------
    >>> grid = grid_from_drawing('''
    ... ####
    ... #..#
    ... ####''', cell_size=0.5)
    >>> grid.shape, grid.free[1].tolist()
    ((3, 4), [False, True, True, False])
    """
    lines = drawing.strip("\n").split("\n")
    width = max(len(line) for line in lines)
    for number, line in enumerate(lines, start=1):
        for sign in line:
            if sign not in SIGNS:
                raise InputError(f"has a sign {sign!r} in line {number}", key="drawing", expected="#, . and spaces")
    if width == 0:
        raise InputError("is empty", key="drawing", expected="lines of #, . and spaces")
    rows = [[SIGNS[sign] for sign in line.ljust(width)] for line in lines]
    return Grid(np.array(rows[::-1], np.float32), cell_size, corner)


@checked
def grid_from_picture(path: str | Path, cell_size: float, corner: tuple[float, float] = (0.0, 0.0)) -> Grid:
    """Make a map of any grey PNG or PGM: black is occupied, white free, grey or transparent unknown; top is up.

    Parameters
    ----------
    path : path-like
    cell_size : float
        What a pixel measures, m.
    corner : (x, y)
        Of the lowest, leftmost cell, m.
    """
    path = Path(path)
    return Grid(readings_of_grey(*decode_picture(read_bytes(path, largest=LARGEST_FILE), path)), cell_size, corner)


@checked
def grid_from_polygons(
    floor: ArrayLike, solids: Sequence[ArrayLike], cell_size: float, *, wall: float | None = None
) -> Grid:
    """Make a map of a free floor with walls along its edge and solid things on it.

    A cell into which a wall or a thing reaches is occupied, as it is in a map made of scans: so walls lie as far from
    the cells' centres on one side as on the other, and localization is not drawn to them.

    Parameters
    ----------
    floor : array_like, (N, 2)
        Its corners, m.
    solids : sequence of array_like, (M, 2)
        The corners of what stands on it, m.
    cell_size : float
        Metres.
    wall : float, optional
        How thick the walls are, outside of the floor's edge, m; one cell if not given.
    """
    check_length(cell_size, "cell_size")
    shape = shapely.Polygon(checked_points(floor, "floor", 3))
    if not shape.is_valid:
        raise InputError(f"crosses itself ({shapely.is_valid_reason(shape)})", key="floor", expected="a plain polygon")
    outside = shape.buffer(max(wall or 0.0, cell_size), join_style="mitre")
    low = np.floor(np.array(outside.bounds[:2]) / cell_size + 1e-6) - 1.0
    high = np.ceil(np.array(outside.bounds[2:]) / cell_size - 1e-6) + 1.0
    columns, rows = (high - low).astype(int)
    empty = Grid(np.zeros((rows, columns), np.float32), cell_size, tuple(low * cell_size))
    centres = empty.points_of(np.argwhere(np.ones(empty.shape, dtype=bool)))
    things = [shapely.Polygon(checked_points(solid, f"solids[{i}]", 3)) for i, solid in enumerate(solids)]

    def inside(polygon: shapely.Polygon) -> NDArray[np.bool_]:
        return np.reshape(shapely.contains_xy(polygon, *centres.T), empty.shape)

    occupied, free = inside(outside), inside(shape)
    for thing in things:
        free &= ~inside(thing)
    # Of their edges, taken a hair to the inside, so that what only borders on a cell does not reach into it.
    hair = 1e-6 * cell_size
    for thing in (shape.buffer(hair, join_style="mitre"), *(thing.buffer(-hair) for thing in things)):
        for part in shapely.get_parts(thing):
            cells = empty.cells_at(resample_polyline(part.exterior.coords, 0.1 * cell_size))
            free[tuple(cells[empty.contains(cells)].T)] = False
    values = np.where(free, SIGNS["."], np.where(occupied, SIGNS["#"], SIGNS[" "])).astype(np.float32)
    return Grid(values, cell_size, empty.corner)
