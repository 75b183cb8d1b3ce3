"""Costmap files: an ``.npz`` archive of plain arrays."""

from __future__ import annotations

import io
from pathlib import Path
from typing import Any

import numpy as np

from vinecompass.costs.costmap import CostMap
from vinecompass.files import atomic_write, check_suffix

__all__ = ["write_costmap"]


def write_costmap(costmap: CostMap, path: str | Path) -> Path:
    """Write a costmap, atomically: `prices` and each layer's factors as float32 ``(rows, columns)``, and the grid.

    ``numpy.load(path)`` reads it; `cell_size`, `corner` and `turn` (radians) place it in the site frame, row 0 at
    the lowest y.
    """
    path = check_suffix(path, ".npz")
    buffer = io.BytesIO()
    arrays: dict[str, Any] = {f"layer_{name}": factors for name, factors in costmap.layers.items()}
    grid = costmap.grid
    np.savez_compressed(
        buffer,
        format=np.array("vinecompass costmap"),
        version=np.array(1),
        prices=costmap.prices,
        cell_size=np.array(grid.cell_size),
        corner=np.array(grid.corner),
        turn=np.array(grid.turn),
        **arrays,
    )
    return atomic_write(path, buffer.getvalue())
