"""How a stranger's tables were written, and reading them as such."""

from __future__ import annotations

import gzip
import io
import re
import zlib
from collections import Counter
from collections.abc import Sequence
from pathlib import Path
from typing import Annotated, Literal, get_args

import numpy as np
import pyarrow
import pyarrow.csv
from annotated_types import Ge, Le
from pydantic import Field as Key
from pydantic import Strict

from vinecompass.errors import InputError
from vinecompass.files import Model, Number, read_bytes
from vinecompass.runs.stamping import Stamps
from vinecompass.runs.tables import LARGEST_TABLE, names_of, read_table

__all__ = [
    "LENGTH_UNITS",
    "TIME_UNITS",
    "WHEEL_UNITS",
    "TableFormat",
    "is_cut",
    "read_recorded",
    "tells_speed",
    "text_of",
    "unpacked",
]

WheelUnit = Literal["rad", "deg", "ticks", "m", "rad/s", "deg/s", "rpm", "ticks/s", "m/s"]
WHEEL_UNITS: tuple[str, ...] = get_args(WheelUnit)
TIME_UNITS = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9}
PART = 2**20
"""Bytes that are unpacked at a time: of a file that ends early, what came before is not lost."""
LENGTH_UNITS = {"m": 1.0, "cm": 1e-2, "mm": 1e-3}
Bits = Annotated[int, Strict(), Ge(4), Le(64)]


class TableFormat(Model):
    """How the tables of one stream were written: what is not said is as our own are.

    Examples
    --------
    >>> TableFormat(delimiter=";", decimal=",", time="ms", wheels="ticks", counter_bits=16).counter_bits
    16
    """

    delimiter: str = Key(",", min_length=1, max_length=3, description='one character, "tab", or spaces: " "')
    decimal: Literal[".", ","] = Key(".", description="the decimal point or comma")
    comment: str = Key("#", max_length=4, description="lines that begin so are left out")
    header: bool = Key(True, description="whether the first line names the columns; else they are 1, 2, 3, ...")
    leave_out: list[str] = Key(default_factory=list, description="columns to leave out")
    cut: bool = Key(
        False, description="whether a last row that is cut short is left out, and a packed file may end early"
    )
    time: Literal["s", "ms", "us", "ns", "iso"] = Key("s", description="of the stamps; iso: dates as in ISO 8601")
    stamps: Stamps = Key(
        "each",
        description="each: of its own reading, in order; shuffled: rows are put in the order of their stamps; bundled: "
        "rows that came together are spread over the time since those before; set_back: stamps go on as if the clock "
        "had not been set back",
    )
    length: Literal["m", "cm", "mm"] = Key("m", description="of ranges, and of x and y")
    angle: Literal["rad", "deg"] = Key("rad", description="of headings, of beams, and of turn rates in a second")
    acceleration: Literal["m/s2", "g"] = Key("m/s2", description="of the IMU")
    wheels: WheelUnit = Key("rad", description="turned or rolled so far, or how fast")
    counter_bits: Bits | None = Key(None, description="bits after which the wheels' counters begin anew")
    nothing: Number | None = Key(None, description="the range that stands for nothing within reach")
    no_reading: Number | None = Key(None, description="the range that stands for no reading")
    rows: Literal["scans", "beams"] = Key("scans", description="whether a row of scans is a whole one or one beam")


def tells_speed(unit: str) -> bool:
    """Return whether wheels in a unit tell how fast they turn, and not how far."""
    return unit == "rpm" or unit.endswith("/s")


def read_recorded(paths: Sequence[Path], how: TableFormat) -> pyarrow.Table:
    """Read the tables of one stream, one or more, as one; raise `InputError` if one is none, or they differ."""
    tables = [_read(path, how) for path in paths]
    for path, table in zip(paths, tables, strict=True):
        if table.column_names != tables[0].column_names:
            raise InputError(
                "has other columns than the file before it",
                file=path,
                value=names_of(table),
                expected=names_of(tables[0]),
            )
    return pyarrow.concat_tables(tables, promote_options="permissive")


def _read(path: Path, how: TableFormat) -> pyarrow.Table:
    table = read_table(path) if path.suffix == ".parquet" else parse(text_of(path, cut=how.cut), how, path)
    return kept_columns(table, how, path)


def kept_columns(table: pyarrow.Table, how: TableFormat, path: Path) -> pyarrow.Table:
    """Return a table without the columns left out; raise `InputError` if one is none or is twice, or no row there."""
    if table.num_rows == 0:
        raise InputError("has no rows", file=path, expected="a row for each reading")
    counts = Counter(table.column_names)
    twice = [name for name, count in counts.items() if count > 1]
    if twice:
        raise InputError("is there more than once", file=path, key=min(twice), expected="a name for each column")
    missing = set(how.leave_out) - counts.keys()
    if missing:
        raise InputError("is not a column", file=path, key=min(missing), expected=names_of(table))
    return table.drop_columns(list(how.leave_out))


def text_of(path: Path, *, cut: bool = False) -> bytes:
    """Return what a text file holds, unpacked if its name ends in ``.gz``.

    Of a packed one that ends early, as when a logger loses its power, `cut` takes the whole lines that are there.
    """
    text, whole = unpacked(path)
    if whole:
        return text
    if not cut:
        raise InputError("is not a whole gzip file", file=path, expected="a .gz that unpacks, or --how STREAM.cut=true")
    return text.rpartition(b"\n")[0]


def unpacked(path: Path) -> tuple[bytes, bool]:
    """Return what a text file holds, unpacked if its name ends in ``.gz``; and whether it is whole."""
    data = read_bytes(path, largest=LARGEST_TABLE)
    if path.suffix != ".gz":
        return data, True
    parts, whole, left = [], True, LARGEST_TABLE + 1
    with gzip.GzipFile(fileobj=io.BytesIO(data)) as packed:
        try:
            while left > 0 and (part := packed.read1(min(left, PART))):
                parts.append(part)
                left -= len(part)
        except EOFError:
            whole = False
        except (OSError, zlib.error) as error:
            raise InputError(f"is no gzip file ({error})", file=path, expected="a .gz that unpacks") from None
    if left <= 0:
        raise InputError("is too large once unpacked", file=path, expected=f"{LARGEST_TABLE // 2**30} GiB at most")
    return b"".join(parts), whole


def parse(text: bytes, how: TableFormat, path: Path) -> pyarrow.Table:
    """Return the table that a text holds; `path` is named in errors."""
    text = text.removeprefix(b"\xef\xbb\xbf")
    mark = how.comment.encode()
    if mark and mark in text:
        text = b"\n".join(line for line in text.splitlines() if not line.lstrip().startswith(mark))
    delimiter = {"tab": "\t"}.get(how.delimiter, how.delimiter)
    if delimiter == " ":
        text = re.sub(rb"(?m)^ +| +$", b"", re.sub(rb"[ \t]+", b" ", text))
    if how.cut:
        text = _without_cut_row(text, delimiter.encode())
    try:
        table = pyarrow.csv.read_csv(
            pyarrow.BufferReader(text),
            read_options=pyarrow.csv.ReadOptions(autogenerate_column_names=not how.header),
            parse_options=pyarrow.csv.ParseOptions(delimiter=delimiter),
            convert_options=pyarrow.csv.ConvertOptions(decimal_point=how.decimal),
        )
        numbers = [str(number) for number in range(1, table.num_columns + 1)]
        names = [name.strip() for name in table.column_names] if how.header else numbers
    except (pyarrow.ArrowException, ValueError, OSError) as error:
        reason = " ".join(str(error).split())
        raise InputError(
            f"is not a whole table ({reason[:90]})", file=path, expected="CSV or Parquet, or say how it is written"
        ) from None
    table = table.rename_columns(names)
    # A delimiter at the end of each line makes a column of nothing.
    empty = [
        name for name, column in zip(names, table.columns, strict=True) if not name and column.null_count == len(column)
    ]
    return table.drop_columns(empty) if empty else table


def _without_cut_row(text: bytes, delimiter: bytes) -> bytes:
    """Return a table's text without its last row, if that is cut short."""
    first, (rows, _, last) = text.partition(b"\n")[0], text.rstrip(b"\r\n").rpartition(b"\n")
    return rows if is_cut(last.split(delimiter), first.rstrip(b"\r").split(delimiter)) else text


def is_cut(last: Sequence[str | bytes], first: Sequence[str | bytes]) -> bool:
    """Tell whether the columns of a table's last row end before those of its first, or within the last of them."""
    return len(last) < len(first) or bool(first[-1] and not last[-1])


def numbers_of(column: pyarrow.ChunkedArray) -> np.ndarray | None:
    """Return a column as float64 ``(N,)``, `nan` where it is empty; None if it holds anything but numbers."""
    kind = column.type
    if pyarrow.types.is_null(kind):
        return np.full(len(column), np.nan)
    if not (pyarrow.types.is_integer(kind) or pyarrow.types.is_floating(kind)):
        return None
    # Nanoseconds since 1970 are whole numbers beyond what a float64 tells apart: to 0.3 microseconds is enough.
    return np.asarray(column.cast(pyarrow.float64(), safe=False).to_numpy(), dtype=float)
