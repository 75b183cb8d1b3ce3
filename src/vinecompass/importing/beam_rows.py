"""Scans that were written one beam a row."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.robot import Lidar
from vinecompass.runs.streams import Scans
from vinecompass.runs.tables import column

__all__ = ["scans_of_beams"]


def scans_of_beams(table: pyarrow.Table, lidar: Lidar, radians: float, path: Path) -> Scans:
    """Return the scans of a table with a row for each beam.

    A scan ends where the beams begin again. A beam that has no row is no reading.

    Parameters
    ----------
    table : pyarrow.Table
        ``t`` in seconds, of the scan or of the beam; ``range``; and ``beam``, counted from 0 in the order they fire,
        or ``angle`` in the lidar's frame.
    lidar : Lidar
    radians : float
        In the unit of the angles.
    path : Path
        Named in errors.
    """
    t = column(table, "t", path, finite=False)
    ranges = column(table, "range", path, finite=False)
    if "beam" in table.column_names:
        beams = np.rint(column(table, "beam", path)).astype(np.int64)
    else:
        beams = _beams_at(column(table, "angle", path) * radians, lidar)
    if len(t) == 0 or beams.min() < 0 or beams.max() >= lidar.beams:
        found = "none" if len(t) == 0 else f"{beams.min()} to {beams.max()}"
        raise InputError(
            "are not this lidar's beams", file=path, key="beam", value=found, expected=f"0 to {lidar.beams - 1}"
        )
    is_first = np.append(True, np.diff(beams) <= 0)
    begins = np.flatnonzero(is_first)
    rows = np.full((len(begins), lidar.beams), np.nan, np.float32)
    rows[np.cumsum(is_first) - 1, beams] = ranges
    stamps = t[begins]
    ends = t[np.append(begins[1:], len(t)) - 1]
    # Where each beam has its own stamp, the scan's is when its first one fired, though that may be missing.
    if np.any(ends > stamps):
        stamps = stamps - lidar.beam_delays[beams[begins]]
    return Scans(stamps + lidar.stamp_offset, rows)


def _beams_at(angles: NDArray[np.float64], lidar: Lidar) -> NDArray[np.int64]:
    """Return the numbers of the beams at angles ``(N,)``, radians: those that point there to half a beam."""
    first, step = lidar.beam_angles[0], lidar.beam_angles[1] - lidar.beam_angles[0]
    numbers = (angles - first) / step
    around = abs(2.0 * np.pi / step)
    return np.rint(np.mod(numbers + 0.5, around) - 0.5).astype(np.int64)
