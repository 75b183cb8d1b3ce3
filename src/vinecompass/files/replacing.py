"""What may be written over: a file by one of its own kind, and nothing else."""

from __future__ import annotations

import re
from collections.abc import Iterator
from contextlib import contextmanager
from contextvars import ContextVar
from pathlib import Path

from vinecompass.errors import InputError

__all__ = [
    "FIGURE",
    "FILM",
    "LOOKED_AT",
    "MADE_BY",
    "REPLAY",
    "REPLAY_BY",
    "TRACK",
    "check_replaced",
    "is_forced",
    "kind_of",
    "replacing_anything",
]

MADE_BY = "Vine Compass figure"
"""What pictures that are drawn say of themselves, so that they may be drawn again."""
REPLAY_BY = "Vine Compass replay"
"""What pages that play something say of themselves."""
FIGURE, FILM, REPLAY, TRACK = "a figure", "a film", "a replay", "a table of t,x,y,heading"
"""Kinds of files, as `kind_of` has them."""
LOOKED_AT = 4096
"""Bytes at the beginning of a file by which its kind is told."""
_forced: ContextVar[bool] = ContextVar("forced", default=False)


@contextmanager
def replacing_anything() -> Iterator[None]:
    """Write over whatever stands there, within the block."""
    token = _forced.set(True)
    try:
        yield
    finally:
        _forced.reset(token)


def is_forced() -> bool:
    """Tell whether anything may be written over."""
    return _forced.get()


def check_replaced(path: Path, kind: str) -> None:
    """Raise `InputError` unless a path is new, or what stands there is of the kind that is to be written."""
    if is_forced() or not path.exists():
        return
    if not path.is_file():
        raise InputError("is a folder" if path.is_dir() else "is no file", file=path, expected="a name for a file")
    with path.open("rb") as stream:
        stands = stream.read(LOOKED_AT)
    if stands and kind_of(stands) != kind:
        raise InputError(f"holds {kind_of(stands)}", file=path, expected=f"a new name, {kind} to replace, or --force")


def kind_of(beginning: bytes) -> str:
    """Return what a file is by how it begins, in words.

    >>> kind_of(b'format = "vinecompass robot"'), kind_of(b"t,x,y\\n0,1,2"), kind_of(b"dear diary")
    ('a vinecompass robot', 'a table of t,x,y', 'something else')
    """
    ours = MADE_BY.encode() in beginning
    for start, word in (
        (b"PAR1", "a Parquet table"),
        (b"PK", "a costmap or another archive"),
        (b"GIF8", FILM if ours else "another picture"),
        (b"\x89PNG", FIGURE if ours else "a map or another picture"),
    ):
        if beginning.startswith(start):
            return word
    try:
        text = beginning.decode("utf-8")
    except UnicodeDecodeError:
        return "something else"
    if found := re.search(r'^format = "(vinecompass [a-z ]+)"', text, re.MULTILINE):
        return f"a {found[1]}"
    first = text.lstrip().split("\n", 1)[0].strip()
    if first.lower().startswith("<!doctype html"):
        return REPLAY if REPLAY_BY.encode() in beginning else "a report" if ours else "another page"
    if first.startswith("{"):
        return "a GeoJSON feature" if first.startswith('{"type": "Feature"') else "JSON"
    if re.fullmatch(r"[-+.\deE]+", first):
        return "a world file"
    if "," in first and not re.match(r"[-+.\d]", first):
        columns = first.replace('"', "").split(",")
        return f"a table of {','.join(columns[:4])[:60]}"
    return "something else"
