"""Scans whose ranges are a list in one cell of each row."""

from __future__ import annotations

from pathlib import Path

import numpy as np
import pyarrow
import pyarrow.compute
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.importing.list_cells import lists_of
from vinecompass.importing.other_beams import refuse_other_beams
from vinecompass.robot import Lidar
from vinecompass.runs.run_files import check_ranges
from vinecompass.runs.streams import Scans
from vinecompass.runs.tables import column

__all__ = ["scans_of_lists"]

FloatArray = NDArray[np.float64]
LEAST_WHOLE = 0.95
"""Share of scans that must have as many ranges as the lidar has beams, if nothing tells where their beams point."""


def scans_of_lists(table: pyarrow.Table, lidar: Lidar, radians: float, path: Path) -> Scans:
    """Return the scans of a table with a list of ranges in each row.

    Where the table tells the beams' angles, scans may have any number of them, as those of a scanner that does not
    spin steadily. Elsewhere a few of another length, as of scans that were cut short, are scans without a reading.

    Parameters
    ----------
    table : pyarrow.Table
        ``t`` in seconds and ``ranges``; and perhaps either ``angles``, a list like that of the ranges, or
        ``first_angle`` and ``angle_step``, in the lidar's frame.
    lidar : Lidar
    radians : float
        In the unit of the angles.
    path : Path
        Named in errors.
    """
    stamps = column(table, "t", path, finite=False) + lidar.stamp_offset
    ranges, lengths = _flat(table, "ranges", path)
    check_ranges(ranges, path)
    angles = _angles(table, lengths, path)
    if angles is None:
        return Scans(stamps, _whole(ranges, lengths, lidar.beams, path))
    ends, angles = np.cumsum(lengths), angles * radians
    numbers = lidar.beam_numbers(angles)
    refuse_other_beams(numbers, numbers[(ends - lengths)[lengths > 0]], lidar, path)
    scans = np.split(np.stack([ranges, angles]), ends[:-1], axis=1)
    return Scans(stamps, np.array([lidar.on_beams(*scan) for scan in scans], np.float32))


def _flat(table: pyarrow.Table, key: str, path: Path) -> tuple[FloatArray, NDArray[np.int64]]:
    """Return the numbers of all lists of a column, one after the other, and how many each has ``(N,)``."""
    lists = lists_of(table.column(key))
    if lists is None:
        raise InputError("holds no lists", file=path, key=key, expected="a list of numbers in each row")
    lengths = pyarrow.compute.fill_null(pyarrow.compute.list_value_length(lists), 0).to_numpy()
    numbers = lists.combine_chunks().flatten().to_numpy(zero_copy_only=False)
    return numbers, lengths.astype(np.int64)


def _angles(table: pyarrow.Table, lengths: NDArray[np.int64], path: Path) -> FloatArray | None:
    """Return the angle of each reading, in the table's unit; None if the table does not tell."""
    if "angles" in table.column_names:
        angles, counts = _flat(table, "angles", path)
        if np.any(uneven := counts != lengths):
            row = int(np.argmax(uneven))
            told = f"{counts[row]} angles for {lengths[row]} ranges in row {row}"
            raise InputError("are not as many as the ranges", file=path, key="angles", value=told)
    elif {"first_angle", "angle_step"} <= set(table.column_names):
        first, step = (column(table, key, path) for key in ("first_angle", "angle_step"))
        counted = np.arange(lengths.sum()) - np.repeat(np.cumsum(lengths) - lengths, lengths)
        angles = np.repeat(first, lengths) + np.repeat(step, lengths) * counted
    else:
        return None
    if not np.all(np.isfinite(angles)):
        raise InputError("is not finite", file=path, key="angles", expected="an angle for each range")
    return angles


def _whole(ranges: FloatArray, lengths: NDArray[np.int64], beams: int, path: Path) -> NDArray[np.float32]:
    """Return the ranges ``(N, beams)`` of scans that are whole, the others without a reading."""
    whole = lengths == beams
    if np.mean(whole) < LEAST_WHOLE:
        told = f"lists of {lengths.min()} to {lengths.max()} numbers"
        expected = f"{beams} in each, as the robot's lidar has beams; or columns angles, or first_angle and angle_step"
        raise InputError("has scans of another size", file=path, key="ranges", value=told, expected=expected)
    rows = np.full((len(lengths), beams), np.nan, np.float32)
    rows[whole] = ranges[np.repeat(whole, lengths)].reshape(-1, beams)
    return rows
