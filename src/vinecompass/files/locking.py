"""A folder in which only one at a time changes names, so that of two writers the last leaves all of its files."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from vinecompass.errors import InputError

__all__ = ["one_writer"]


@contextmanager
def one_writer(folder: str | Path) -> Iterator[None]:
    """Wait until no other writer is at work in a folder, and keep others waiting until the block ends.

    The folder is made if need be. The lock lies on the folder itself, leaves no file, and ends with its process.
    Where a system has no such locks, the block runs without.
    """
    try:
        Path(folder).mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(f"cannot be written ({error.strerror})", file=folder) from None
    with ExitStack() as at_the_end:
        with suppress(ImportError, OSError):
            import fcntl

            descriptor = os.open(folder, os.O_RDONLY)
            at_the_end.callback(os.close, descriptor)
            fcntl.flock(descriptor, fcntl.LOCK_EX)
        yield
