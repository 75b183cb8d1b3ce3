"""The option --scan RUN@t, which names one scan of a run."""

from __future__ import annotations

import math
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


def seen_obstacles(
    grid: Grid, robot: Robot, scan: str | None, scan_at: str | None, settings: CostSettings
) -> LiveObstacles | None:
    """Return what the scan that ``--scan`` names sees away from everything mapped; None if none is named."""
    from vinecompass.localization import obstacles_of_scan
    from vinecompass.runs import read_run

    if scan is None:
        if scan_at is not None:
            raise InputError("says where no scan was taken", key="--scan-at", value=scan_at, expected="--scan, too")
        return None
    folder, _, seconds = scan.rpartition("@")
    try:
        after = float(seconds)
    except ValueError:
        after = math.nan
    if not folder or not math.isfinite(after):
        raise InputError("names no scan", key="--scan", value=scan, expected="RUN@t, t in seconds from its first scan")
    near = None if scan_at is None else find_pose(scan_at, option="--scan-at")
    return obstacles_of_scan(grid, robot, read_run(Path(folder)), after, near=near, settings=settings, name=scan)
