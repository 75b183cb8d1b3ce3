"""The demo data: a robot and a site, both made up."""

from __future__ import annotations

from pathlib import Path

from vinecompass.door import checked
from vinecompass.errors import InputError

__all__ = ["demo_file"]


@checked
def demo_file(name: str) -> Path:
    """Return the path of a shipped demo file; raise `InputError` for another name.

    There are ``robot.toml``, ``site.toml``, and ``estate.toml``, a larger site of 100 m x 60 m for long runs.
    """
    path = Path(__file__).parent / name
    known = sorted(file.name for file in Path(__file__).parent.glob("*.toml"))
    if name not in known:
        raise InputError("no demo file of that name", key="name", value=name, expected=" or ".join(known))
    return path
