"""A site made of a map: its walls to drive and rehearse among, where nobody has drawn the building."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.files import validated
from vinecompass.geometry import checked_pose, transform_points
from vinecompass.grids import Grid, Zone
from vinecompass.simulation.site import Site

__all__ = ["site_from_map"]

AS_STRAIGHT = 0.5
"""Cells by which an outline may be off the cells' own: it makes straight lines of their steps."""
DIGITS = 3
"""Of coordinates in metres: millimetres."""


@checked
def site_from_map(
    grid: Grid,
    start: ArrayLike,
    *,
    name: str = "site of a map",
    zones: Sequence[Zone] = (),
    stops: Mapping[str, ArrayLike] | None = None,
    routes: Mapping[str, ArrayLike] | None = None,
) -> Site:
    """Make a site whose walls are the outlines of what a map has as occupied.

    What the map does not show is not there: people, wet floor and what lies above or below the scanner are added to the
    file. Unknown floor lets beams pass.

    Parameters
    ----------
    grid : Grid
    start : array_like, (3,)
        Where the robot is parked, in the site frame, m and radians.
    name : str
    zones : sequence of Zone
    stops : mapping of str to array_like, (3,), optional
        Poses by their names.
    routes : mapping of str to array_like, (N, 2), optional
        Corners of routes to record along, m, by their names.

    Raises
    ------
    InputError
        The map has nothing occupied, or the start, a stop or a corner of a route lies elsewhere than on its free floor.

    Examples
    --------
    >>> from vinecompass import grid_from_drawing
    >>> room = grid_from_drawing("######" + "\\n#....#" * 3 + "\\n######", cell_size=0.5)
    >>> site_from_map(room, [1.5, 1.0, 0.0])
    <Site 'site of a map': 2 walls, 0 solids, 0 people, 0 stops>
    """
    outlines = _outlines(grid)
    if not outlines:
        raise InputError("has nothing occupied", key="map", expected="walls, which a site is made of")
    values = {
        "name": name,
        "start": _filed(start, grid, "start"),
        "wall": [{"points": outline.tolist()} for outline in outlines],
        "zone": list(zones),
        "stop": [{"name": stop, "pose": _filed(pose, grid, f"stop {stop!r}")} for stop, pose in (stops or {}).items()],
        "route": [
            {"name": route, "points": _on_free_floor(corners, grid, f"route {route!r}").tolist()}
            for route, corners in (routes or {}).items()
        ],
    }
    return validated(Site, values, name)


def _filed(pose: ArrayLike, grid: Grid, key: str) -> list[float]:
    """Return a pose on free floor as a site file has it: m and degrees."""
    x, y, heading = checked_pose(pose, key).tolist()
    _on_free_floor([[x, y]], grid, key)
    return [x, y, float(np.degrees(heading))]


def _on_free_floor(points: ArrayLike, grid: Grid, key: str) -> NDArray[np.float64]:
    """Return points ``(N, 2)`` in the site frame; raise `InputError` if any is not on the map's free floor."""
    places = np.asarray(points, dtype=float)
    if places.ndim != 2 or places.shape[1] != 2 or not np.all(np.isfinite(places)):
        raise InputError("are no points", key=key, value=places.shape, expected="finite x, y, of shape (N, 2)")
    closed = ~grid.values_at(places, grid.free, False)
    if np.any(closed):
        x, y = places[int(np.argmax(closed))]
        raise InputError("does not lie on free floor", key=key, value=f"{x:g},{y:g}", expected="free floor of the map")
    return places


def _outlines(grid: Grid) -> list[NDArray[np.float64]]:
    """Return the closed outlines ``(N, 2)`` of all that is occupied, in the site frame, m."""
    # Runs of cells along each row, as there are fewer of them than cells.
    steps = np.diff(np.pad(grid.occupied, ((0, 0), (1, 1))).astype(np.int8), axis=1)
    rows, begins = np.nonzero(steps == 1)
    ends = np.nonzero(steps == -1)[1]
    whole = shapely.union_all(shapely.box(begins, rows, ends, rows + 1))
    straight = shapely.simplify(whole, AS_STRAIGHT)
    rings = shapely.get_rings(shapely.get_parts(straight))
    in_cells = [shapely.get_coordinates(ring) for ring in rings]
    return [np.round(transform_points(grid.frame, grid.cell_size * ring), DIGITS) for ring in in_cells]
