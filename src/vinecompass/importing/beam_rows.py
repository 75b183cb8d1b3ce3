"""Scans that were written one beam a row."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.importing.other_beams import refuse_other_beams
from vinecompass.robot import Lidar
from vinecompass.runs.streams import Scans
from vinecompass.runs.tables import column

__all__ = ["scans_of_beams"]

BACK = 0.1
"""Share of a lidar's beams by which angles go back where a scan begins."""


def scans_of_beams(table: pyarrow.Table, lidar: Lidar, radians: float, path: Path) -> Scans:
    """Return the scans of a table with a row for each beam.

    A scan ends where the beams begin again. A beam that has no row is no reading; where rows tell angles, they need
    not be just those of the lidar's beams.

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
        beams = _counted(column(table, "beam", path), lidar, path)
        begins = np.append(True, np.diff(beams) <= 0)
        rows = np.full((begins.sum(), lidar.beams), np.nan, np.float32)
        rows[np.cumsum(begins) - 1, beams] = ranges
    else:
        angles = column(table, "angle", path) * radians
        numbers = lidar.beam_numbers(angles)
        refuse_other_beams(numbers, np.empty(0), lidar, path)
        beams = np.clip(np.rint(numbers).astype(np.int64), 0, lidar.beams - 1)
        # The angles of a real scanner tremble.
        begins = np.append(True, np.diff(numbers) < -BACK * lidar.beams)
        scans = np.split(np.stack([ranges, angles]), np.flatnonzero(begins)[1:], axis=1)
        rows = np.array([lidar.on_beams(*scan) for scan in scans], np.float32)
    stamps = t[begins]
    last = np.append(begins[1:], True)
    # Where each beam has its own stamp, the scan's is when its first one fired, though that may be missing.
    if np.any(t[last] != stamps):
        stamps = stamps - lidar.beam_delays[beams[begins]]
    return Scans(stamps + lidar.stamp_offset, rows)


def _counted(beams: NDArray[np.float64], lidar: Lidar, path: Path) -> NDArray[np.int64]:
    """Return the numbers of beams ``(N,)``; raise `InputError` unless the lidar has such beams."""
    numbers = np.rint(beams).astype(np.int64)
    if numbers.min() < 0 or numbers.max() >= lidar.beams:
        raise InputError(
            "are not this lidar's beams",
            file=path,
            key="beam",
            value=f"{numbers.min()} to {numbers.max()}",
            expected=f"0 to {lidar.beams - 1}",
        )
    return numbers
