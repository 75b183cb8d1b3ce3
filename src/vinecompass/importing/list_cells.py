"""Ranges that were written as a list in one cell of each row."""

from __future__ import annotations

import re

import numpy as np
import pyarrow
import pyarrow.compute

__all__ = ["lists_of"]

WORD = re.compile(r"[^\s,;|\[\](){}\"']+")
"""What stands between brackets, commas and spaces."""
NO_NUMBER = ("none", "null", "na")
"""What stands for no reading, besides nan."""


def lists_of(column: pyarrow.ChunkedArray) -> pyarrow.Array | None:
    """Return a column of lists of float64, `nan` where there is no number; None if any cell is no list of numbers.

    Text such as ``[1.25, inf, nan]`` or ``1.25 inf nan`` is such a list.
    """
    cells = column.combine_chunks()
    if pyarrow.types.is_nested(cells.type):
        try:
            return pyarrow.compute.cast(cells, pyarrow.list_(pyarrow.float64()), safe=False)
        except pyarrow.ArrowException:
            return None
    if not (pyarrow.types.is_string(cells.type) or pyarrow.types.is_large_string(cells.type)):
        return None
    try:
        rows = [_numbers(cell) for cell in cells.to_pylist()]
    except ValueError:
        return None
    ends = np.cumsum([0, *map(len, rows)])
    return pyarrow.ListArray.from_arrays(pyarrow.array(ends, pyarrow.int32()), pyarrow.array(np.concatenate(rows)))


def _numbers(cell: str | None) -> np.ndarray:
    """Return the numbers in a text; raise `ValueError` if it holds anything else."""
    words = WORD.findall(cell or "")
    return np.array([np.nan if word.lower() in NO_NUMBER else float(word) for word in words], dtype=float)
