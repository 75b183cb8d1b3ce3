"""Files of every format spoiled at random: each is read, or refused in one line, in little time and memory."""

from __future__ import annotations

import faulthandler
import io
import re
import resource
import shutil
import sys
import tempfile
import time
import traceback
import warnings
from collections.abc import Iterator
from concurrent.futures import ProcessPoolExecutor
from dataclasses import dataclass
from multiprocessing import get_context
from pathlib import Path

import numpy as np
import pyarrow
import pyarrow.parquet
from PIL import Image

from benchmarks.robustness.originals import Original, make_originals
from vinecompass import VineCompassError

__all__ = ["Fall", "campaign", "try_mutations"]

SIZES = (
    "0",
    "-1",
    "1",
    "-0.0",
    "0.5",
    "999999",
    "1e6",
    "1e7",
    "1e300",
    "-1e300",
    "1e-300",
    "5e-324",
    "1e999",
    "9" * 400,
)
WHOLE = ("2147483648", "-2147483649", "18446744073709551616", "0x1F", "1_0")
NUMBERS = (
    *SIZES,
    *WHOLE,
    "nan",
    "inf",
    "-inf",
    "true",
    "null",
    "[]",
    "{}",
    "[1,2,3]",
    '"text"',
    "''",
    "",
    '"\\u001b[31m"',
)
WORDS = ("", "a", "x" * 5000, "\x1b[31mred", "../../etc/passwd", "a$b_c^d", "naïve \u202e", "closed", "NaN", "t")
LONGEST, MOST_MEMORY = 5.0, 500e6
"""Seconds and bytes that an answer may take at most."""
STUCK = 120.0
"""Seconds after which a worker that does not answer ends itself, and tells where it stood."""


@dataclass(frozen=True)
class Fall:
    """A spoiled file that was answered otherwise than by a value or one line: which, and how."""

    original: str
    seed: int
    how: str


def mutated(data: bytes, rng: np.random.Generator) -> bytes:
    """Return a file's bytes, spoiled in one to three ways."""
    for _ in range(rng.integers(1, 4)):
        text = _text_of(data)
        ways = [_bytes_changed] if text is None else [_bytes_changed, _number_changed, _word_changed, _lines_changed]
        if data.startswith(b"PAR1"):
            ways = [_bytes_changed, _table_changed]
        if data.startswith(b"\x89PNG"):
            ways = [_bytes_changed, _picture_changed]
        # Text is spoiled by a person more often than by a disk.
        way = ways[0] if rng.random() < 0.25 else ways[rng.integers(len(ways))]
        data = way(data, rng)
    return data


def _text_of(data: bytes) -> str | None:
    try:
        return data.decode()
    except UnicodeDecodeError:
        return None


def _bytes_changed(data: bytes, rng: np.random.Generator) -> bytes:
    begin, end = np.sort(rng.integers(0, len(data) + 1, 2))
    match rng.integers(6):
        case 0:
            return data[:begin]
        case 1:
            return data[:begin] + data[min(end, begin + 50) :]
        case 2:
            return data[:end] + data[begin:end] + data[end:]
        case 3:
            return data[:begin] + bytes(rng.integers(0, 256, rng.integers(1, 9), dtype=np.uint8)) + data[begin:]
        case 4:
            return data[:begin] + b"\x00" * 4 + data[begin + 4 :]
    changed = bytearray(data)
    for place in rng.integers(0, max(len(data), 1), 4):
        if place < len(changed):
            changed[place] ^= 1 << int(rng.integers(8))
    return bytes(changed)


def _number_changed(data: bytes, rng: np.random.Generator) -> bytes:
    return _found_changed(data, rb"-?\b\d[\d.e+-]*", NUMBERS, rng)


def _word_changed(data: bytes, rng: np.random.Generator) -> bytes:
    return _found_changed(data, rb"[A-Za-z_]+", WORDS, rng)


def _found_changed(data: bytes, pattern: bytes, others: tuple[str, ...], rng: np.random.Generator) -> bytes:
    found = list(re.finditer(pattern, data))
    if not found:
        return data
    one = found[rng.integers(len(found))]
    return data[: one.start()] + others[rng.integers(len(others))].encode() + data[one.end() :]


def _lines_changed(data: bytes, rng: np.random.Generator) -> bytes:
    lines = data.split(b"\n")
    i, j = rng.integers(0, len(lines), 2)
    match rng.integers(6):
        case 0:
            del lines[i]
        case 1:
            lines.insert(j, lines[i])
        case 2:
            lines[i], lines[j] = lines[j], lines[i]
        case 3:
            lines = lines[: i + 1]
        case 4:
            return data.replace(b"\n", b"\r\n") if i % 2 else b"\xef\xbb\xbf" + data
        case 5:
            lines[i] = lines[i].replace(b"=", b".x =") if i % 2 else lines[i] * 40
    return b"\n".join(lines)


def _table_changed(data: bytes, rng: np.random.Generator) -> bytes:
    try:
        table = pyarrow.parquet.read_table(io.BytesIO(data))
    except Exception:
        return data
    if not (table.num_columns and table.num_rows):
        return data
    place = int(rng.integers(table.num_columns))
    name, values = table.column_names[place], table.column(place).to_pylist()
    row = int(rng.integers(len(values)))
    match rng.integers(7):
        case 0:
            table = table.remove_column(place)
        case 1:
            table = table.append_column(name, table.column(place))
        case 2:
            other = ("nan", "[]", "", "1e300", "-1.0", "true")[rng.integers(6)]
            table = table.set_column(place, name, pyarrow.array([other] * len(values)))
        case 3:
            bad = (np.nan, np.inf, -1e300, 0.0)[rng.integers(4)]
            values[row] = [bad] * len(values[row]) if isinstance(values[row], list) else bad
            table = _with(table, place, values)
        case 4:
            values[row] = None if row % 2 or not isinstance(values[row], list) else values[row][:-1]
            table = _with(table, place, values)
        case 5:
            table = table.take(rng.permutation(table.num_rows))
        case 6:
            table = table.slice(0, int(rng.integers(3)))
    written = io.BytesIO()
    pyarrow.parquet.write_table(table, written)
    return written.getvalue()


def _with(table: pyarrow.Table, place: int, values: list[object]) -> pyarrow.Table:
    try:
        return table.set_column(place, table.column_names[place], pyarrow.array(values))
    except pyarrow.ArrowException:
        return table


def _picture_changed(data: bytes, rng: np.random.Generator) -> bytes:
    try:
        picture: Image.Image = Image.open(io.BytesIO(data))
        picture.load()
    except Exception:
        return data
    match rng.integers(4):
        case 0:
            picture = picture.convert("L").convert(("1", "P", "RGB", "RGBA", "I;16")[rng.integers(5)])
        case 1:
            picture = picture.resize([(1, 1), (1, 900), (3000, 2), (7, 7)][rng.integers(4)])
        case 2:
            picture = picture.transpose(Image.Transpose.ROTATE_90)
        case 3:
            picture = picture.crop((0, 0, picture.width // 2 + 1, picture.height))
    written = io.BytesIO()
    try:
        picture.save(written, "PNG")
    except (OSError, ValueError):
        return data
    return written.getvalue()


def try_mutations(originals: list[Original], folder: Path, seeds: range) -> Iterator[Fall]:
    """Spoil one original after the other, read each, and yield those that were not answered as they should be."""
    for seed in seeds:
        original = originals[seed % len(originals)]
        path = folder / original.path
        whole = path.read_bytes()
        path.write_bytes(mutated(whole, np.random.default_rng(seed)))
        try:
            how = _how_it_fell(original, path)
        finally:
            path.write_bytes(whole)
        if how:
            yield Fall(original.name, seed, how)


def _how_it_fell(original: Original, path: Path) -> str:
    """Read a spoiled file; return what was wrong with the answer, and nothing if it was as it should be."""
    before, begun = resource.getrusage(resource.RUSAGE_SELF).ru_maxrss, time.perf_counter()
    faulthandler.dump_traceback_later(STUCK, exit=True)
    with warnings.catch_warnings(record=True) as warned:
        warnings.simplefilter("always")
        try:
            original.read(path)
            told = ""
        except VineCompassError as error:
            told = f"told in {str(error).count(chr(10)) + 1} lines: {error}" if "\n" in str(error) else ""
            if len(str(error)) > 600:
                told = f"told in {len(str(error))} letters: {error}"
        except Exception as error:
            told = f"{type(error).__name__}: {error} at {traceback.extract_tb(error.__traceback__)[-1][:3]}"
    faulthandler.cancel_dump_traceback_later()
    took = time.perf_counter() - begun
    grown = 1024.0 * (resource.getrusage(resource.RUSAGE_SELF).ru_maxrss - before)
    if told:
        return told[:400]
    if warned:
        return f"{warned[0].category.__name__}: {warned[0].message}"
    if took > LONGEST:
        return f"took {took:.1f} s"
    return f"took {grown / 1e6:.0f} MB" if grown > MOST_MEMORY else ""


def _share(seeds: range) -> list[Fall]:
    folder = Path(tempfile.mkdtemp())
    try:
        # A warm reader tells its own time, not that of its first call.
        originals = make_originals(folder)
        for original in originals:
            original.read(folder / original.path)
        return list(try_mutations(originals, folder, seeds))
    finally:
        shutil.rmtree(folder)


def campaign(count: int) -> int:
    """Try as many mutations on all cores, print what fell short, and return how many did."""
    shares = [range(begin, min(begin + 500, count)) for begin in range(0, count, 500)]
    fallen, done = 0, 0
    with ProcessPoolExecutor(mp_context=get_context("forkserver")) as pool:
        for share, falls in zip(shares, pool.map(_share, shares), strict=True):
            done += len(share)
            fallen += len(falls)
            for fall in falls:
                print(f"{fall.original}, seed {fall.seed}: {fall.how}", flush=True)
            print(f"mutations: {done} of {count}, {fallen} fell short", file=sys.stderr, flush=True)
    print(f"{count} mutated files: {fallen} fell short")
    return fallen
