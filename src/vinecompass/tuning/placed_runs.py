"""Where a recorded run began on a map, though nobody may have told."""

from __future__ import annotations

from math import hypot
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.geometry import compose, relative
from vinecompass.grids import Grid
from vinecompass.localization import Localization, localize
from vinecompass.runs import Run, Track

__all__ = ["locate_run"]

FloatArray = NDArray[np.float64]
LEAP = 0.3
"""Metres by which the place found leaves the odometry from scan to scan: it was another place until then."""
MOSTLY = 0.8
"""Share of the scans that must lie in one stretch, tracked without a leap, for a run to lie on the map."""
FROM_START, TURNED = 0.6, np.radians(20.0)
"""Metres and radians within which a run begins where it says; beyond, it is localized from where it does."""
MOST_TIMES = 3
"""Times that it is localized from where it seems to begin."""


def locate_run(
    grid: Grid, run: Run, odometry: Track, path: str | Path | None = None
) -> tuple[FloatArray, Localization]:
    """Localize a run on a map from its own start, or from where it is found if it does not begin there.

    A run that was imported begins at 0, 0, 0 unless somebody said where; that need not be where the map has it.

    Returns
    -------
    array, (3,)
        Where on the map it begins.
    Localization
        From there.

    Raises
    ------
    InputError
        It does not find itself on the map; `path` is its folder.
    """
    start = run.start
    found = _localized(grid, run, odometry, start) or _localized(grid, run, odometry, None)
    for _ in range(MOST_TIMES):
        if found is None:
            break
        first, share = _longest_stretch(found, odometry)
        began, at = odometry.at(found.track.t[[0, first]])
        truly = np.asarray(compose(found.track.poses[first], relative(began, at)))
        off = relative(truly, start)
        if share > MOSTLY and hypot(off[0], off[1]) < FROM_START and abs(off[2]) < TURNED:
            return start, found
        start, found = truly, _localized(grid, run, odometry, truly)
    raise InputError(
        "is not found on the map",
        file=path,
        expected="a run recorded where the map was made; import it with --start x,y,heading_deg where it began",
    )


def _localized(grid: Grid, run: Run, odometry: Track, start: FloatArray | None) -> Localization | None:
    """Return a run localized from a start, or from anywhere.

    None if it starts off the map or inside a wall, or if it never finds itself.
    """
    try:
        found = localize(grid, run, start, odometry=odometry)
    except InputError:
        return None
    return found if np.any(found.tracked) else None


def _longest_stretch(found: Localization, odometry: Track) -> tuple[int, float]:
    """Return the first scan of the longest stretch that was tracked without a leap, and its share of all scans."""
    poses, told = found.track.poses, odometry.at(found.track.t)
    off = relative(poses[1:], poses[:-1]) - relative(told[1:], told[:-1])
    holds = found.tracked & np.append(True, np.hypot(off[:, 0], off[:, 1]) < LEAP)
    edges = np.flatnonzero(np.diff(np.concatenate([[False], holds, [False]])))
    begins, ends = edges[::2], edges[1::2]
    longest = int(np.argmax(ends - begins))
    return int(begins[longest]), float(ends[longest] - begins[longest]) / len(holds)
