"""Folders for what is written: made for it, and changed by one writer at a time, so that the last leaves all files."""

from __future__ import annotations

import os
from collections.abc import Iterator
from contextlib import ExitStack, contextmanager, suppress
from pathlib import Path

from vinecompass.errors import InputError

__all__ = ["made_folder", "one_writer"]


@contextmanager
def made_folder(folder: Path) -> Iterator[None]:
    """Make a folder, if need be, for what is written in the block; where nothing was, it goes again."""
    made = [each for each in (folder, *folder.parents) if not each.exists()]
    folder.mkdir(parents=True, exist_ok=True)
    try:
        yield
    finally:
        for each in made:
            with suppress(OSError):
                each.rmdir()


@contextmanager
def one_writer(folder: str | Path) -> Iterator[None]:
    """Wait until no other writer is at work in a folder, and keep others waiting until the block ends.

    The folder is made if need be. The lock lies on the folder itself, leaves no file, and ends with its process.
    Where a system has no such locks, the block runs without.
    """
    with ExitStack() as at_the_end:
        try:
            at_the_end.enter_context(made_folder(Path(folder)))
        except OSError as error:
            raise InputError(f"cannot be written ({error.strerror})", file=folder) from None
        with suppress(ImportError, OSError):
            import fcntl

            descriptor = os.open(folder, os.O_RDONLY)
            at_the_end.callback(os.close, descriptor)
            fcntl.flock(descriptor, fcntl.LOCK_EX)
        yield
