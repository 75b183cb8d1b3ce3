"""Files read with suspicion: none too large, none that is not what it says."""

from __future__ import annotations

from collections.abc import Iterator
from contextlib import contextmanager
from pathlib import Path

from vinecompass.errors import InputError

__all__ = ["read_bytes", "read_text"]

LARGEST_TEXT = 32 * 2**20
"""Bytes. A settings, robot or site file beyond this is not one."""


@contextmanager
def _readable(path: Path) -> Iterator[None]:
    try:
        yield
    except FileNotFoundError:
        raise InputError("no such file", file=path) from None
    except IsADirectoryError:
        raise InputError("is a folder", file=path, expected="a file") from None
    except OSError as error:
        raise InputError(f"cannot be read ({error.strerror})", file=path) from None


def read_bytes(path: str | Path, *, largest: int) -> bytes:
    """Read a file of at most `largest` bytes; raise `InputError` if it is missing, unreadable or larger."""
    path = Path(path)
    with _readable(path):
        if path.exists() and not (path.is_file() or path.is_dir()):
            raise InputError("is a device or a pipe", file=path, expected="a file")
        if path.stat().st_size > largest:
            raise InputError(f"holds {path.stat().st_size} bytes", file=path, expected=f"at most {largest}")
        return path.read_bytes()


def read_text(path: str | Path) -> str:
    """Read a text file in UTF-8; raise `InputError` if it is missing, unreadable, too large or not text."""
    try:
        return read_bytes(path, largest=LARGEST_TEXT).decode("utf-8")
    except UnicodeDecodeError:
        raise InputError("is not text in UTF-8", file=path) from None
