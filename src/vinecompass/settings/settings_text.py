"""The text of a settings file with some values changed."""

from __future__ import annotations

from collections.abc import Mapping
from pathlib import Path
from typing import Any

import tomlkit

from vinecompass.files import read_text

__all__ = ["settings_text"]


def settings_text(values: Mapping[str, float | str], path: str | Path | None = None) -> str:
    """Return a settings file, or the one at a path with everything else as it was written, with values by their keys.

    >>> settings_text({"costs.comfort": 0.4}).splitlines()[-2:]
    ['[costs]', 'comfort = 0.4']
    """
    if path is None:
        document: Any = tomlkit.document()
        document["format"], document["version"] = "vinecompass settings", 1
    else:
        document = tomlkit.parse(read_text(path))
    for key, value in values.items():
        table, name = key.split(".")
        document.setdefault(table, tomlkit.table())[name] = value
    return tomlkit.dumps(document)
