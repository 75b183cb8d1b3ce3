"""Where compiled kernels are kept, so that each is compiled once."""

from __future__ import annotations

import atexit
import os
import shutil
import sys
import tempfile
from pathlib import Path

__all__ = ["choose_place", "kept_in"]

CHOSEN, NUMBAS = "VINECOMPASS_CACHE", "NUMBA_CACHE_DIR"
"""The variables by which a user says where, and by which Numba is told."""
OWN = "vinecompass-"
"""How a place begins that ends with its process."""


def choose_place() -> None:
    """Let Numba keep what it compiles where `VINECOMPASS_CACHE` says, or else where it may write.

    By itself it takes the package's folder, or one in the user's home; where neither can be written, it runs nothing.
    Then each process compiles for itself and keeps nothing, which is said once; but what lies in a chosen place that
    can only be read, as in a service, is used.
    """
    chosen = os.environ.get(CHOSEN)
    if chosen and _writable(Path(chosen)):
        _tell_numba(chosen)
        return
    if chosen and any(Path(chosen).rglob("*.nbi")):
        # Numba reads only where it may write.
        _tell_numba(str(shutil.copytree(chosen, _own_place(), dirs_exist_ok=True)))
        return
    usual = () if chosen else (Path(__file__).parent, Path.home() / ".cache")
    if (chosen or NUMBAS not in os.environ) and not any(map(_writable, usual)):
        sys.stderr.write(f"vinecompass: what is compiled cannot be kept; let {CHOSEN} name a folder for it\n")
        _tell_numba(_own_place())


def kept_in() -> Path | None:
    """Return the folder in which compiled code is kept; None if this process keeps none."""
    if chosen := os.environ.get(NUMBAS):
        return None if Path(chosen).name.startswith(OWN) else Path(chosen)
    package = Path(__file__).parent
    return package if _writable(package) else Path.home() / ".cache"


def _own_place() -> str:
    """Return a new folder that goes when the process ends."""
    place = tempfile.mkdtemp(prefix=OWN)
    atexit.register(shutil.rmtree, place, ignore_errors=True)
    return place


def _tell_numba(place: str) -> None:
    os.environ[NUMBAS] = place
    if "numba" in sys.modules:
        sys.modules["numba"].config.CACHE_DIR = place


def _writable(folder: Path) -> bool:
    """Tell whether a folder can be written, or made."""
    while not folder.exists() and folder.parent != folder:
        folder = folder.parent
    return os.access(folder, os.W_OK)
