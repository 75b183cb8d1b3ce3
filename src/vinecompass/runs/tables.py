"""Tables of numbers, Parquet or CSV, read without trust."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow
import pyarrow.csv
import pyarrow.parquet
from numpy.typing import NDArray

from vinecompass.errors import InputError, shortened
from vinecompass.files import read_bytes

__all__ = ["column", "names_of", "read_table", "table_bytes"]

LARGEST_TABLE = 8 * 2**30
"""Bytes: ten hours of scans as text."""
LARGEST_NUMBER = 1e15
"""No stamp, length or angle comes near it."""


def read_table(path: str | Path) -> pyarrow.Table:
    """Read a ``.csv`` table with a header or a ``.parquet`` table; raise `InputError` if it is neither."""
    path = Path(path)
    data = pyarrow.BufferReader(read_bytes(path, largest=LARGEST_TABLE))
    try:
        if path.suffix == ".parquet":
            return pyarrow.parquet.read_table(data)
        table = pyarrow.csv.read_csv(data)
        return table.rename_columns([name.strip() for name in table.column_names])
    except (pyarrow.ArrowException, OSError, UnicodeDecodeError) as error:
        reason = " ".join(str(error).split())
        raise InputError(f"is not a whole table ({reason[:90]})", file=path, expected="CSV or Parquet") from None


def column(table: pyarrow.Table, name: str, path: Path, *, finite: bool = True) -> NDArray[np.float64]:
    """Return one column as float64 ``(N,)``; raise `InputError` if it is missing or holds anything but numbers."""
    places = table.schema.get_all_field_indices(name)
    if not places:
        raise InputError(
            "is missing", file=path, key=name, expected=f"a column of that name (found: {names_of(table)})"
        )
    if len(places) > 1:
        raise InputError("is there more than once", file=path, key=name, expected="one column of that name")
    values = table.column(places[0])
    if pyarrow.types.is_null(values.type):
        values = values.cast(pyarrow.float64())
    if pyarrow.types.is_temporal(values.type):
        raise InputError("is a date", file=path, key=name, expected="seconds, or `import --how time=iso`")
    if not (pyarrow.types.is_integer(values.type) or pyarrow.types.is_floating(values.type)):
        text = next((value for value in values.to_pylist() if not _is_number(value)), None)
        raise InputError("is not a number", file=path, key=name, value=text, expected="numbers in the whole column")
    numbers = values.to_numpy().astype(np.float64)
    if finite and not np.all(sensible := np.abs(numbers) <= LARGEST_NUMBER):
        row = int(np.argmin(sensible))
        problem = f"is {'beyond all sense' if np.isfinite(numbers[row]) else 'not finite'} in row {row}"
        raise InputError(problem, file=path, key=name, value=float(numbers[row]), expected="a number")
    return numbers


def names_of(table: pyarrow.Table) -> str:
    """Return the names of a table's first columns, to be told in an error."""
    return ", ".join(shortened(name) for name in table.column_names[:6])


def _is_number(value: Any) -> bool:
    try:
        float(value)
    except (TypeError, ValueError):
        return False
    return True


def table_bytes(columns: dict[str, Any], kind: str) -> bytes:
    """Return a table of equally long columns as the bytes of a Parquet or CSV file."""
    table = pyarrow.table(columns)
    buffer = io.BytesIO()
    if kind == "parquet":
        pyarrow.parquet.write_table(table, buffer, compression="zstd")
    else:
        pyarrow.csv.write_csv(table, buffer, pyarrow.csv.WriteOptions(quoting_style="none"))
    return buffer.getvalue()
