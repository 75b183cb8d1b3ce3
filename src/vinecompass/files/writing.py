"""Files and folders written whole or not at all, and never over something else."""

from __future__ import annotations

import glob
import os
import shutil
import tempfile
from collections.abc import Collection, Iterator
from contextlib import contextmanager
from pathlib import Path
from typing import Any

from vinecompass.errors import InputError, shortened
from vinecompass.files.exchanging import exchange
from vinecompass.files.folders import made_folder, one_writer
from vinecompass.files.replacing import LOOKED_AT, check_replaced, is_forced, kind_of

__all__ = ["atomic_folder", "atomic_write", "check_replaceable", "check_suffix"]

PARTIAL, MOST_OF_NAME = ".partial", 100
"""How files end that are not whole yet, and how many letters of their name these carry."""


def atomic_write(path: str | Path, content: bytes | str) -> Path:
    """Write a file so that a reader sees the old content or the new, never a part: write beside it, flush, rename.

    What stands there is written over only by its own kind; a link stays a link, and what it leads to is written.
    """
    path = Path(path)
    data = content.encode("utf-8") if isinstance(content, str) else content
    check_replaced(path, kind_of(data[:LOOKED_AT]))
    with _written_beside(path) as (target, temporary):
        descriptor, name = tempfile.mkstemp(**_beside(target))
        temporary.append(Path(name))
        with os.fdopen(descriptor, "wb") as handle:
            handle.write(data)
            handle.flush()
            os.fsync(handle.fileno())
        os.chmod(name, 0o644)
        os.replace(name, target)
    return path


def check_replaceable(path: str | Path, *, marker: str, ours: Collection[str] | None = None) -> None:
    """Raise `InputError` unless a folder is new, empty, or holds `marker` and nothing but what is called as `ours`.

    Worth knowing before long work for it. Without `ours`, it may hold anything besides: nothing of it will be removed.
    """
    path = Path(path)
    if is_forced() or not path.exists():
        return
    if not path.is_dir():
        raise InputError("is a file", file=path, expected="a name for a folder")
    names = sorted(each.name for each in path.iterdir())
    if names and marker not in names:
        raise InputError(f"exists and holds no {marker}", file=path, expected="a new name, or a folder to replace")
    foreign = [] if ours is None else [name for name in names if name not in ours]
    if foreign:
        raise InputError(
            f"holds {shortened(foreign[0])}, too, which would be lost",
            file=path,
            expected="a new name, a folder with nothing else in it, or --force",
        )


def check_suffix(path: str | Path, suffix: str, kind: str | None = None) -> Path:
    """Return a path whose name ends in `suffix`, or raise `InputError`.

    With a kind, also if something of another kind stands there: worth knowing before long work for it.
    """
    path = Path(path)
    if path.suffix.lower() != suffix:
        raise InputError("is not a name for this file", file=path, expected=f"a name that ends in {suffix}")
    if kind is not None:
        check_replaced(path, kind)
    return path


@contextmanager
def atomic_folder(path: str | Path, *, marker: str, ours: Collection[str]) -> Iterator[Path]:
    """Fill a folder under a temporary name and put it in place whole when the block ends without an error.

    An existing folder is replaced only as `check_replaceable` allows: if it holds `marker`, the file that shows it is
    of the same kind, and nothing foreign.
    """
    path = Path(path)
    check_replaceable(path, marker=marker, ours=ours)
    with _written_beside(path) as (target, temporary):
        new = Path(tempfile.mkdtemp(**_beside(target)))
        temporary.append(new)
        yield new
        os.chmod(new, 0o755)
        with one_writer(target.parent):
            if target.exists():
                exchange(new, target)
            else:
                os.replace(new, target)


@contextmanager
def _written_beside(path: Path) -> Iterator[tuple[Path, list[Path]]]:
    """Yield where a path truly lies, and a list for what is written beside it for now, which goes in the end.

    What dead writers left there is cleared; whatever the system has against it becomes one line.
    """
    temporary: list[Path] = []
    try:
        target = Path(os.path.realpath(path))
        with made_folder(target.parent):
            _clear_leftovers(target)
            try:
                yield target, temporary
            finally:
                for left in temporary:
                    _remove(left)
    except OSError as error:
        raise InputError(f"cannot be written ({error.strerror or error})", file=path) from None


def _beside(path: Path) -> dict[str, Any]:
    """Return where and under what name a path is written before it is whole: the name tells who writes."""
    return {"prefix": f".{path.name[:MOST_OF_NAME]}.{os.getpid()}.", "suffix": PARTIAL, "dir": path.parent}


def _clear_leftovers(path: Path) -> None:
    """Remove what writers of a path left behind that live no more."""
    for left in path.parent.glob(f".{glob.escape(path.name[:MOST_OF_NAME])}.*{PARTIAL}"):
        writer = left.name.removesuffix(PARTIAL).split(".")[-2]
        if writer.isdigit() and not _lives(int(writer)):
            _remove(left)


def _lives(process: int) -> bool:
    try:
        os.kill(process, 0)
    except ProcessLookupError:
        return False
    except OSError:
        return True
    return True


def _remove(path: Path) -> None:
    if path.is_dir():
        shutil.rmtree(path, ignore_errors=True)
    else:
        path.unlink(missing_ok=True)
