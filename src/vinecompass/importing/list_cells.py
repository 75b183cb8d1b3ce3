"""Ranges that were written as a list in one cell of each row."""

from __future__ import annotations

import pyarrow
import pyarrow.compute as compute

__all__ = ["lists_of"]

BETWEEN = r"[\s,;|]+"
"""What parts the numbers of a list."""
AROUND = r"^[\s\[({\"']+|[\s\])}\"',;]+$"
"""What stands before the first and behind the last."""
NO_NUMBER = ("", "none", "null", "na")
"""What stands for no reading, besides nan."""


def lists_of(column: pyarrow.ChunkedArray) -> pyarrow.ChunkedArray | None:
    """Return a column of lists of float64, null where there is no number; None if any cell is no list of numbers.

    Text such as ``[1.25, inf, nan]`` or ``1.25 inf nan`` is such a list.
    """
    try:
        if pyarrow.types.is_string(column.type):
            column = pyarrow.chunked_array([_parted(chunk) for chunk in column.chunks])
        if pyarrow.types.is_nested(column.type):
            return compute.cast(column, pyarrow.list_(pyarrow.float64()), safe=False)
    except pyarrow.ArrowException:
        pass
    return None


def _parted(texts: pyarrow.Array) -> pyarrow.Array:
    """Return texts as lists of words, null where a word stands for no number."""
    lists = compute.split_pattern_regex(compute.replace_substring_regex(texts, AROUND, ""), BETWEEN)
    words = lists.flatten()
    none = compute.is_in(compute.utf8_lower(words), pyarrow.array(NO_NUMBER))
    numbers = compute.if_else(none, pyarrow.scalar(None, pyarrow.string()), words)
    return pyarrow.ListArray.from_arrays(lists.offsets, numbers)
