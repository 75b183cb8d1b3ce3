"""The option --scan RUN@t: obstacles that one scan of a run sees and the map does not know."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from vinecompass.cli.common import find_pose
from vinecompass.errors import InputError

if TYPE_CHECKING:
    from vinecompass.costs import LiveObstacles
    from vinecompass.grids import Grid
    from vinecompass.robot import Robot
    from vinecompass.settings import CostSettings

__all__ = ["scan_at_option", "scan_option", "seen_obstacles"]

scan_option = click.option("--scan", "scan", help="RUN@t: obstacles seen by the scan t seconds into a run.")
scan_at_option = click.option(
    "--scan-at", help="x,y,heading_deg: roughly where that scan was taken; found by itself if not given."
)
ROUGHLY = 2.0
"""Metres that a rough pose may be off."""


def seen_obstacles(grid: Grid, robot: Robot, scan: str, scan_at: str | None, settings: CostSettings) -> LiveObstacles:
    """Find where a scan was taken, and enter what it sees away from everything mapped.

    Raises
    ------
    InputError
        There is no such run or scan, it fits nowhere, or it fits in several places and no rough pose tells which.
    """
    import numpy as np

    from vinecompass.costs import LiveObstacles
    from vinecompass.fusion import usual_odometry
    from vinecompass.localization import find_places
    from vinecompass.odometry import motion_at, straightened_beams
    from vinecompass.runs import Scan, read_run

    folder, _, seconds = scan.rpartition("@")
    try:
        after = float(seconds)
    except ValueError:
        after = float("nan")
    if not folder or not np.isfinite(after):
        raise InputError("names no scan", key="--scan", value=scan, expected="RUN@t, t in seconds from its first scan")
    run = read_run(Path(folder))
    scans = run.need_scans()
    length = float(scans.t[-1] - scans.t[0])
    if not 0.0 <= after <= length:
        raise InputError("is not in the run", key="--scan", value=scan, expected=f"0 to {length:.1f} s")
    index = int(np.argmin(np.abs(scans.t - scans.t[0] - after)))
    one = Scan(float(scans.t[index]), scans.ranges[index])
    sweep = motion_at(usual_odometry(run), one.t, robot.scanner).sweep
    places = find_places(grid, robot, one, sweep=sweep)
    if scan_at is not None and places:
        rough = find_pose(scan_at, option="--scan-at")
        near = [place for place in places if np.hypot(*(place.pose[:2] - rough[:2])) < ROUGHLY]
        if not near:
            raise InputError("is not where the scan fits", key="--scan-at", value=scan_at, expected=str(places[0]))
        places = near
    if not places:
        raise InputError("fits nowhere on the map", key="--scan", value=scan, expected="a scan taken there")
    if len(places) > 1:
        raise InputError(
            f"fits at {len(places)} places",
            key="--scan",
            value=scan,
            expected=f"--scan-at to tell which: {' or '.join(str(place) for place in places[:3])}",
        )
    seen = LiveObstacles(
        grid, apart=settings.obstacle_apart, memory=settings.obstacle_memory, reach=settings.obstacle_reach
    )
    beams = straightened_beams(one.ranges, robot.scanner, sweep, clear_reach=settings.obstacle_reach)
    seen.see(one.t, places[0].pose, beams, scan)
    return seen
