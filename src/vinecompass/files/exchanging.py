"""Two paths exchanged in one step, so that whoever dies in between leaves either."""

from __future__ import annotations

import ctypes
import os
import tempfile
from pathlib import Path

__all__ = ["exchange"]

HERE, EXCHANGE = -100, 2
"""What Linux calls the working directory, and the exchange of two names."""


def exchange(new: Path, old: Path) -> None:
    """Let two paths change names; where the system has no such step, move one away and put the other in its place."""
    try:
        failed = ctypes.CDLL(None, use_errno=True).renameat2(HERE, os.fsencode(new), HERE, os.fsencode(old), EXCHANGE)
    except (AttributeError, OSError):
        failed = 1
    if failed:
        aside = Path(tempfile.mkdtemp(prefix=f".{old.name[:100]}.", suffix=".old", dir=old.parent)) / old.name
        os.replace(old, aside)
        os.replace(new, old)
        os.replace(aside, new)
        aside.parent.rmdir()
