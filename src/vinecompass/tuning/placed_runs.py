"""Where a recorded run began on a map, though nobody may have told."""

from __future__ import annotations

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
MOSTLY = 0.8
"""Share of the scans, once the robot was found, at which it must be tracked for a run to lie on the map."""


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
    told = _localized(grid, run, odometry, run.start)
    if told is not None:
        return run.start, told
    anywhere = _localized(grid, run, odometry, None)
    start = None if anywhere is None else _start(anywhere, odometry)
    found = None if start is None else _localized(grid, run, odometry, start)
    if start is None or found is None:
        raise InputError(
            "is not found on the map",
            file=path,
            expected="a run recorded where the map was made; import it with --start x,y,heading_deg where it began",
        )
    return start, found


def _localized(grid: Grid, run: Run, odometry: Track, start: FloatArray | None) -> Localization | None:
    """Return a run localized from a start, or from anywhere; None if it is not tracked most of the time then."""
    try:
        found = localize(grid, run, start, odometry=odometry)
    except InputError:
        # It starts off the map, or inside a wall.
        return None
    settled = found.settled_at
    return found if settled is not None and np.mean(found.tracked[settled:]) > MOSTLY else None


def _start(found: Localization, odometry: Track) -> FloatArray:
    """Return where on the map a run began ``(3,)``: from where it was found, back along its odometry."""
    settled = found.settled_at or 0
    first, at = odometry.at(found.track.t[[0, settled]])
    return np.asarray(compose(found.track.poses[settled], relative(first, at)), dtype=float)
