"""How true a map is, measured against the simulated site it was recorded in."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from scipy.spatial import KDTree

from vinecompass.geometry import compose
from vinecompass.grids import Grid
from vinecompass.runs import Run
from vinecompass.simulation import Site, cast_beams

__all__ = ["MapAccuracy", "measure_map"]

NEAR = 0.10
"""Metres within which a cell counts as lying on a wall."""
PROFILE_REACH = 0.35
"""Metres to each side of a wall that are searched for its double."""


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
        Share of those wall cells beside which the map shows a second wall that is not there.
    wall_error_rms : float
        Root mean square distance of the occupied cells within 0.35 m of a wall to it, m.
    """

    on_wall: float
    walls_found: float
    doubled: float
    wall_error_rms: float


def measure_map(grid: Grid, site: Site, run: Run) -> MapAccuracy:
    """Measure a map, made from a simulated run, against the site; both in the site frame, nothing aligned.

    A wall cell counts as seen if a beam of the run that returned truly ended on it.

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
    walls = (cells + 0.5) * grid.cell_size
    tree = KDTree(occupied)
    found = tree.query(walls, distance_upper_bound=NEAR)[0] <= NEAR
    return MapAccuracy(
        on_wall=float(np.mean(distances <= NEAR)),
        walls_found=float(np.mean(found)),
        doubled=_doubled_share(walls, occupied[(distances > NEAR) & (distances <= PROFILE_REACH)], walls[found]),
        wall_error_rms=float(np.sqrt(np.mean(distances[distances <= PROFILE_REACH] ** 2))),
    )


def _seen_wall_cells(grid: Grid, site: Site, run: Run) -> np.ndarray:
    """Return the cells ``(N, 2)``, as multiples of the cell size in x and y, that returning beams truly ended on."""
    assert run.truth is not None
    lidar, scans = run.robot.scanner, run.need_scans()
    seen = []
    for scan in scans:
        returned = np.isfinite(scan.ranges)
        poses = run.truth.at(scan.t + lidar.beam_delays)
        ranges = cast_beams(site.segments, poses, lidar)
        # A person in the way returned a shorter range: such a beam saw no wall.
        returned &= np.abs(ranges - np.where(returned, scan.ranges, np.inf)) < PROFILE_REACH
        sensor = compose(poses, lidar.mount_pose)[returned]
        angles = sensor[:, 2] + lidar.beam_angles[returned]
        ends = sensor[:, :2] + ranges[returned, None] * np.stack([np.cos(angles), np.sin(angles)], axis=-1)
        seen.append(np.unique(np.floor(ends / grid.cell_size).astype(np.int64), axis=0))
    return np.unique(np.concatenate(seen), axis=0)


def _doubled_share(walls: np.ndarray, stray: np.ndarray, found: np.ndarray) -> float:
    """Share of found walls that have, besides, stray occupied cells drawn out beside them like a second wall.

    A second wall is at least three stray cells within 0.35 m of the wall cell: a speck is not a wall.
    """
    if len(stray) == 0 or len(found) == 0:
        return 0.0
    neighbours = KDTree(stray).query_ball_point(found, PROFILE_REACH, return_length=True)
    return float(np.mean(np.asarray(neighbours) >= 3)) * len(found) / len(walls)
