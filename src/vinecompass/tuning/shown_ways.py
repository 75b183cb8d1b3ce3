"""Ways that a person showed a robot: driven in a run, or drawn."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path

import numpy as np
import shapely
from numpy.typing import NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.fusion import usual_odometry
from vinecompass.geometry import distance_along, polyline_headings, resample_polyline
from vinecompass.grids import Grid
from vinecompass.runs import Track, cleaned, read_run
from vinecompass.runs.tables import column, read_table
from vinecompass.tuning.placed_runs import locate_run

__all__ = ["ShownWay", "read_shown_ways", "ways_apart"]

FloatArray = NDArray[np.float64]
SPACING = 0.1
"""Metres between the points of a way."""
SHORTEST = 2.0
"""Metres without which a stretch shows nothing."""
PAUSE, STANDS = 2.0, 0.03
"""Seconds of standing that part one way from the next, as at a stop, and the speed, m/s, below which it stands."""


@checked
@dataclass(frozen=True)
class ShownWay:
    """A way that the robot should have taken.

    Parameters
    ----------
    name : str
    poses : array, (N, 3)
        Evenly spaced, in the site frame, m and radians, each heading along the way.
    """

    name: str
    poses: FloatArray

    @classmethod
    def through(cls, name: str, points: FloatArray) -> ShownWay:
        """Return the way along points ``(N, 2 or more)``."""
        even = resample_polyline(points, SPACING)
        return cls(name, np.column_stack([even, polyline_headings(even)]))

    @property
    def line(self) -> shapely.LineString:
        """The way as a line."""
        return shapely.LineString(self.poses[:, :2])

    @property
    def length(self) -> float:
        """Metres."""
        return float(self.line.length)


def ways_apart(first: FloatArray, second: FloatArray) -> float:
    """Return how far two ways ``(N, 2 or more)`` are apart on average, m: of one from the other, the greater.

    >>> round(ways_apart(np.array([[0.0, 0.0], [1.0, 0.0]]), np.array([[0.0, 0.3], [1.0, 0.3]])), 3)
    0.3
    """
    lines = [shapely.LineString(resample_polyline(way, SPACING)) for way in (first, second)]
    one, other = (
        float(np.mean(shapely.distance(shapely.points(shapely.get_coordinates(line)), beside)))
        for line, beside in (lines, lines[::-1])
    )
    return max(one, other)


def read_shown_ways(path: str | Path, grid: Grid) -> list[ShownWay]:
    """Read the ways of a run, which is localized on the map, or of a table with columns x and y, as of a plan.

    A run shows one way for each stretch between two stops.

    Raises
    ------
    InputError
        There is no such run or table, the run is not found on the map, or it shows no way of 2 m.
    """
    path = Path(path)
    if path.is_dir():
        stretches = _driven(path, grid)
    else:
        table = read_table(path)
        stretches = [np.column_stack([column(table, name, path) for name in "xy"])]
    for points in stretches:
        if not np.all(grid.contains(grid.cells_at(points))):
            raise InputError("leads off the map", file=path, expected="a way on this map, in the site frame")
    long = [points for points in stretches if len(points) > 1 and distance_along(points)[-1] >= SHORTEST]
    if not long:
        raise InputError("shows no way", file=path, expected=f"at least {SHORTEST:g} m between two stops")
    names = [path.stem] if len(long) == 1 else [f"{path.stem} {number}" for number in range(1, len(long) + 1)]
    return [ShownWay.through(name, points) for name, points in zip(names, long, strict=True)]


def _driven(folder: Path, grid: Grid) -> list[FloatArray]:
    """Return where a run went on the map, parted where it stood."""
    run, _ = cleaned(read_run(folder, as_recorded=True))
    _, found = locate_run(grid, run, usual_odometry(run), folder)
    track = Track(found.track.t[found.tracked], found.track.poses[found.tracked])
    return _between_stops(track)


def _between_stops(track: Track) -> list[FloatArray]:
    """Return the points of a track, parted where it stands for a while."""
    speeds = np.hypot(*np.diff(track.poses[:, :2], axis=0).T) / np.diff(track.t)
    moving = np.flatnonzero(speeds > STANDS)
    if len(moving) == 0:
        return []
    begins = np.flatnonzero(np.diff(track.t[moving]) > PAUSE) + 1
    return [track.poses[part[0] : part[-1] + 2, :2] for part in np.split(moving, begins)]
