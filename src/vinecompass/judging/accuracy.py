"""How true a map is, measured against the simulated site it was recorded in."""

from __future__ import annotations

from dataclasses import dataclass
from itertools import islice

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from scipy.spatial import KDTree

from vinecompass.door import checked
from vinecompass.geometry import compose
from vinecompass.grids import Grid
from vinecompass.runs import Run
from vinecompass.simulation import Site, cast_beams

__all__ = ["MapAccuracy", "measure_map"]

FloatArray = NDArray[np.float64]
ON_WALL_WITHIN = 0.10
"""Metres within which a cell counts as lying on a wall."""
PROFILE_REACH = 0.35
"""Metres to each side of a wall that are searched for its double."""
EVERY_SCAN = 4
"""Of so many scans one is cast anew to see which walls were seen: at 10 Hz, the robot moves some 0.4 m meanwhile."""
SHORTEST_DOUBLE = 0.4
"""Metres."""


@dataclass(frozen=True)
class MapAccuracy:
    """Shares between 0 and 1, and a distance in metres.

    Parameters
    ----------
    on_wall : float
        Share of occupied cells within 0.10 m of a true wall.
    walls_found : float
        Share of the true wall cells seen by the lidar that have an occupied cell within 0.10 m.
    doubled : float
        Share of those wall cells beside which the map shows a second wall, 0.4 m long or more, that is not there.
    wall_error_rms : float
        Root mean square distance of the occupied cells within 0.35 m of a wall to it, m.
    """

    on_wall: float
    walls_found: float
    doubled: float
    wall_error_rms: float


@checked
def measure_map(grid: Grid, site: Site, run: Run) -> MapAccuracy:
    """Measure a map, made from a simulated run, against the site; both in the site frame, nothing aligned.

    A wall cell counts as seen if a beam of the run that returned truly ended on it (one scan in four is looked at).

    Parameters
    ----------
    grid : Grid
    site : Site
    run : Run
        With scans and truth.
    """
    occupied = grid.occupied_points()
    distances = site.distances_to_surface(occupied)
    cells = _seen_wall_cells(grid, site, run)
    walls = np.asarray((cells + 0.5) * grid.cell_size, dtype=float)
    tree = KDTree(occupied)
    found = tree.query(walls, distance_upper_bound=ON_WALL_WITHIN)[0] <= ON_WALL_WITHIN
    return MapAccuracy(
        on_wall=float(np.mean(distances <= ON_WALL_WITHIN)),
        walls_found=float(np.mean(found)),
        doubled=_doubled_share(grid, distances, walls),
        wall_error_rms=float(np.sqrt(np.mean(distances[distances <= PROFILE_REACH] ** 2))),
    )


def _seen_wall_cells(grid: Grid, site: Site, run: Run) -> NDArray[np.int64]:
    """Return the cells ``(N, 2)``, as multiples of the cell size in x and y, that returning beams truly ended on."""
    assert run.truth is not None
    lidar, scans = run.robot.scanner, run.need_scans()
    seen = []
    for scan in islice(scans, 0, None, EVERY_SCAN):
        returned = np.isfinite(scan.ranges)
        poses = run.truth.at(scan.t + lidar.beam_delays)
        ranges = cast_beams(site.segments, poses, lidar)
        # A person in the way returned a shorter range: such a beam saw no wall.
        returned &= np.abs(ranges - np.where(returned, scan.ranges, 0.0)) < PROFILE_REACH
        sensor = compose(poses, lidar.mount_pose)[returned]
        angles = sensor[:, 2] + lidar.beam_angles[returned]
        ends = sensor[:, :2] + ranges[returned, None] * np.stack([np.cos(angles), np.sin(angles)], axis=-1)
        seen.append(np.unique(np.floor(ends / grid.cell_size).astype(np.int64), axis=0))
    return np.unique(np.concatenate(seen), axis=0)


def _doubled_share(grid: Grid, distances: FloatArray, walls: FloatArray) -> float:
    """Share of wall cells that have a second wall drawn beside them.

    A second wall is a connected line of at least 0.4 m of occupied cells that all lie 0.10 to 0.35 m off every
    true wall: a speck is not a wall.
    """
    cells = np.argwhere(grid.occupied)
    stray = np.zeros(grid.shape, dtype=bool)
    stray[tuple(cells[(distances > ON_WALL_WITHIN) & (distances <= PROFILE_REACH)].T)] = True
    labels, _ = ndimage.label(stray, structure=np.ones((3, 3)))
    lines = [
        number + 1
        for number, (rows, columns) in enumerate(ndimage.find_objects(labels))
        if max(rows.stop - rows.start, columns.stop - columns.start) * grid.cell_size >= SHORTEST_DOUBLE
    ]
    if not lines:
        return 0.0
    doubles = KDTree(grid.points_of(np.argwhere(np.isin(labels, lines))))
    return float(np.mean(doubles.query(walls, distance_upper_bound=PROFILE_REACH)[0] <= PROFILE_REACH))
