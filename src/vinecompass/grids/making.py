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
from vinecompass.grids.map_files import LARGEST_FILE, decode_picture

__all__ = ["grey_levels", "grid_from_drawing", "grid_from_picture", "grid_from_polygons"]

SIGNS = {"#": 5.0, ".": -5.0, " ": 0.0}
"""Log-odds of a drawing's signs: occupied, free, unknown."""
JUST_OCCUPIED, JUST_FREE = 0.39, 0.61
"""Probabilities of being free, at the levels of grey that are named, which read as occupied and as free."""
LEAST_SURE = 0.01
"""Probability of the contrary that black and white leave."""
ALIKE = 2.0
"""Levels of grey by which unknown floor may differ from its own."""
LEVELS = "0 to 255, the first at most the second"


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
def grey_levels(path: str | Path) -> tuple[NDArray[np.uint8], NDArray[np.bool_]]:
    """Return the grey ``(rows, columns)`` of a PNG or PGM, 0 to 255, top row first, and which pixels are not clear."""
    return decode_picture(read_bytes(path, largest=LARGEST_FILE), Path(path))


@checked
def grid_from_picture(
    path: str | Path,
    cell_size: float,
    corner: tuple[float, float] = (0.0, 0.0),
    turn: float = 0.0,
    *,
    occupied_below: float = 102.0,
    free_above: float = 153.0,
    unknown: float | None = None,
) -> Grid:
    """Make a map of any picture, a PNG or PGM: dark is occupied, light free, the rest unknown; top is up.

    Colours count as their grey, and 16 bits as the 8 that they stand for. Between the levels named here, what is darker
    is the more likely to be occupied.

    Parameters
    ----------
    path : path-like
    cell_size : float
        What a pixel measures, m.
    corner : (x, y)
        Of the lowest, leftmost cell, m.
    turn : float
        Heading of the picture's rows in the site frame, radians.
    occupied_below, free_above : float
        Levels of grey, from 0, black, to 255, white.
    unknown : float, optional
        The level of grey that is unknown, to within 2, whatever lies on either side of it; what is transparent is, too.

    Raises
    ------
    InputError
        It is no such picture, or the levels are none, or the wrong way round.
    """
    check_length(cell_size, "cell_size")
    if not 0.0 <= occupied_below <= free_above <= 255.0:
        levels = f"{occupied_below:g} and {free_above:g}"
        raise InputError("are no levels of grey", key="occupied_below, free_above", value=levels, expected=LEVELS)
    if unknown is not None and not 0.0 <= unknown <= 255.0:
        raise InputError("is no level of grey", key="unknown", value=unknown, expected="0 to 255")
    grey, observed = grey_levels(path)
    greys = np.arange(256, dtype=float)
    free = np.interp(greys, [0.0, occupied_below, free_above, 255.0], [0.0, JUST_OCCUPIED, JUST_FREE, 1.0])
    free[greys < occupied_below] = np.minimum(free[greys < occupied_below], JUST_OCCUPIED)
    free[greys > free_above] = np.maximum(free[greys > free_above], JUST_FREE)
    sure = np.clip(free, LEAST_SURE, 1.0 - LEAST_SURE)
    log_odds = np.log(1.0 / sure - 1.0).astype(np.float32)
    if unknown is not None:
        log_odds[np.abs(greys - unknown) <= ALIKE] = 0.0
    return Grid(np.where(observed, log_odds[grey], np.float32(0.0))[::-1].copy(), cell_size, corner, turn)


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
