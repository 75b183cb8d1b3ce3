"""Obstacles that one scan of a run sees and the map does not know."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike

from vinecompass.costs import LiveObstacles
from vinecompass.errors import InputError
from vinecompass.fusion import usual_odometry
from vinecompass.grids import Grid
from vinecompass.localization.place_search import Place, find_places
from vinecompass.odometry import believed_ranges, motion_at, straightened_beams
from vinecompass.robot import Robot
from vinecompass.runs import Run, Scan
from vinecompass.settings import CostSettings

__all__ = ["obstacles_of_scan"]

ROUGHLY = 2.0
"""Metres that a rough pose may be off."""


def obstacles_of_scan(
    grid: Grid,
    robot: Robot,
    run: Run,
    after: float,
    *,
    near: ArrayLike | None = None,
    settings: CostSettings | None = None,
    name: str = "scan",
) -> LiveObstacles:
    """Find where a scan was taken, and enter what it sees away from everything mapped.

    Parameters
    ----------
    grid : Grid
    robot : Robot
    run : Run
    after : float
        Seconds from the run's first scan.
    near : array_like, (3,), optional
        Roughly where it was taken, in the site frame; found by itself if not given.
    settings : CostSettings, optional
    name : str
        What to call the scan in reasons.

    Returns
    -------
    LiveObstacles
        A layer for `price_floor`.

    Raises
    ------
    InputError
        There is no such scan, it fits nowhere, or it fits in several places and no rough pose tells which.
    """
    s = settings or CostSettings()
    scan = _scan_at(run, after, name)
    sweep = motion_at(usual_odometry(run), scan.t, robot.scanner).sweep
    place = _the_place(find_places(grid, robot, scan, sweep=sweep), near, name)
    seen = LiveObstacles(grid, apart=s.obstacle_apart, memory=s.obstacle_memory, reach=s.obstacle_reach)
    beams = straightened_beams(
        believed_ranges(scan.ranges, robot.scanner), robot.scanner, sweep, clear_reach=s.obstacle_reach
    )
    seen.see(scan.t, place.pose, beams, name)
    return seen


def _scan_at(run: Run, after: float, name: str) -> Scan:
    """Return the scan nearest to a time after the first one."""
    scans = run.need_scans()
    length = float(scans.t[-1] - scans.t[0])
    if not 0.0 <= after <= length:
        raise InputError("is not in the run", key="scan", value=name, expected=f"0 to {length:.1f} s")
    index = int(np.argmin(np.abs(scans.t - scans.t[0] - after)))
    return scans[index]


def _the_place(places: list[Place], near: ArrayLike | None, name: str) -> Place:
    """Return the one place where a scan fits, of those near a rough pose if there is one."""
    if near is not None and places:
        rough = np.asarray(near, dtype=float)
        close = [place for place in places if np.hypot(*(place.pose[:2] - rough[:2])) < ROUGHLY]
        if not close:
            x, y = rough[:2].tolist()
            raise InputError("is not where the scan fits", key="near", value=f"{x:g},{y:g}", expected=str(places[0]))
        places = close
    if not places:
        raise InputError("fits nowhere on the map", key="scan", value=name, expected="a scan taken there")
    if len(places) > 1:
        told = " or ".join(str(place) for place in places[:3])
        raise InputError(
            f"fits at {len(places)} places", key="scan", value=name, expected=f"a rough pose to tell which: {told}"
        )
    return places[0]
