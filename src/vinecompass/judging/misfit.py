"""How well scans fit a map, or each other, from the poses of a track: in metres, whatever made the track."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import KDTree

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import distance_along, transform_points
from vinecompass.grids import Grid
from vinecompass.odometry import deskewed_hits, motions
from vinecompass.runs import Run, Track

__all__ = ["FARTHEST_MISFIT", "misfit_of_track", "misfits_on_map"]

FloatArray = NDArray[np.float64]
FARTHEST_MISFIT = 0.3
"""Metres that a point counts at most: what has gone since, and people, fit nowhere."""
BEAMS_EACH = 60
"""About so many points of a scan are looked at."""
KEPT_EVERY, PARTS = 0.2, (3.0, 8.0, 20.0, 50.0)
"""Metres of way from scan to scan that are compared with each other, and of the parts that the way is cut into: short
ones show what bends, long ones what comes back beside itself."""


@checked
def misfits_on_map(grid: Grid, run: Run, track: Track, *, odometry: Track) -> FloatArray:
    """Return how far on average what each scan hit lies from the next wall of a map, seen from the track.

    Parameters
    ----------
    grid : Grid
    run : Run
        With scans.
    track : Track
        The body's poses at the scans' stamps, in the site frame.
    odometry : Track
        The smooth motion that scans are straightened by, in any frame.

    Returns
    -------
    array, (scans,)
        Metres, no point counting more than 0.3 m; `nan` for a scan that hit nothing.

    Raises
    ------
    InputError
        The map has no wall, or the run no scans.
    """
    walls = grid.occupied_points()
    if len(walls) == 0:
        raise InputError("shows no wall", key="grid", expected="a map with occupied cells")
    tree = KDTree(walls)
    return np.array(
        [_nearest(tree, points).mean() if len(points) else np.nan for points in _seen(run, track, odometry)]
    )


@checked
def misfit_of_track(run: Run, track: Track, *, odometry: Track) -> float:
    """Return how far on average what scans hit lies from the next thing that another part of the drive saw.

    The way is cut into parts of some metres, and what every other part saw is compared with what those between saw. A
    drive that comes back to the same place a little beside itself shows walls twice: that counts, and no setting of a
    mapper has a say in it. What one part alone has seen counts 0.3 m, by whatever track.

    Parameters
    ----------
    run : Run
        With scans.
    track : Track
        The body's poses at the scans' stamps, in one frame.
    odometry : Track
        The smooth motion that scans are straightened by, in any frame.

    Returns
    -------
    float
        Metres; `nan` if the robot went no farther than one part.
    """
    way = distance_along(track.at(run.need_scans().t))
    kept = np.append(True, np.diff(np.floor(way / KEPT_EVERY)) > 0)
    seen = [points for points, keep in zip(_seen(run, track, odometry), kept, strict=True) if keep]
    numbers = np.repeat(np.arange(len(seen)), [len(points) for points in seen])
    points, ways = np.concatenate(seen), way[kept][numbers]
    misfits = []
    for length in PARTS:
        odd = np.floor(ways / length) % 2 == 1
        if np.any(odd) and not np.all(odd):
            misfits += [_nearest(KDTree(points[~part]), points[part]) for part in (odd, ~odd)]
    return float(np.concatenate(misfits).mean()) if misfits else float("nan")


def _seen(run: Run, track: Track, odometry: Track) -> list[FloatArray]:
    """Return some of what each scan hit ``(N, 2)``, in the track's frame."""
    scans, lidar = run.need_scans(), run.robot.scanner
    found = []
    for scan, motion, pose in zip(scans, motions(odometry, scans, lidar), track.at(scans.t), strict=True):
        hits = deskewed_hits(scan.ranges, lidar, motion.sweep)
        found.append(transform_points(pose, hits[:: max(len(hits) // BEAMS_EACH, 1)]))
    return found


def _nearest(tree: KDTree, points: FloatArray) -> FloatArray:
    """Return how far points ``(N, 2)`` are from the nearest in a tree, m, none farther than counts."""
    return np.minimum(tree.query(points, distance_upper_bound=FARTHEST_MISFIT)[0], FARTHEST_MISFIT)
