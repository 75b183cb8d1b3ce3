"""Films: a picture every few seconds of a drive, written as an animated GIF."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from matplotlib.colors import to_rgb
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from vinecompass.errors import InputError
from vinecompass.figures.canvas import AUBERGINE, CHARCOAL, OLIVE, PAPER, RUST, SAND, SLATE, TEAL, strongest
from vinecompass.files import MADE_BY, atomic_write, check_suffix
from vinecompass.grids import Grid

__all__ = [
    "BODY",
    "FREE",
    "MISS",
    "OCCUPIED",
    "PARTICLE",
    "SCAN",
    "UNKNOWN",
    "WAY",
    "WIDEST",
    "draw_body",
    "map_picture",
    "save_film",
]

WIDEST = 1000
"""Pixels a side that a frame has at most."""
PALETTE = (SAND, PAPER, AUBERGINE, TEAL, CHARCOAL, RUST, SLATE, OLIVE)
UNKNOWN, FREE, OCCUPIED, WAY, BODY, MISS, SCAN, PARTICLE = range(8)


def map_picture(grid: Grid, low: NDArray[np.float64], cells: NDArray[np.int64], every: int) -> Image.Image:
    """Return a map on a sheet of ``cells`` columns and rows from the corner `low`, several cells to a pixel."""
    sheet = np.full((cells[1], cells[0]), UNKNOWN, np.uint8)
    column, row = np.rint((np.asarray(grid.corner) - low) / grid.cell_size).astype(int)
    part = sheet[row : row + grid.shape[0], column : column + grid.shape[1]]
    part[grid.free[: part.shape[0], : part.shape[1]]] = FREE
    part[grid.occupied[: part.shape[0], : part.shape[1]]] = OCCUPIED
    picture = Image.fromarray(strongest(sheet, every)[::-1], mode="P")
    picture.putpalette([round(255 * value) for colour in PALETTE for value in to_rgb(colour)])
    return picture


def draw_body(pen: ImageDraw.ImageDraw, place: tuple[float, float], heading: float, size: float) -> None:
    """Draw the robot as a circle of `size` pixels with a nose."""
    x, y = place
    pen.ellipse((x - size, y - size, x + size, y + size), outline=BODY, width=2)
    pen.line((x, y, x + 2.0 * size * np.cos(heading), y - 2.0 * size * np.sin(heading)), fill=BODY, width=2)


def save_film(pictures: Sequence[Image.Image], path: str | Path, *, frame_ms: int) -> Path:
    """Write pictures of one size as an animated GIF, atomically.

    Raises
    ------
    InputError
        The name does not end in ``.gif``, or there is no picture.
    """
    path = check_suffix(path, ".gif")
    if not pictures:
        raise InputError("nothing was seen", file=path, expected="a run with scans")
    # The last one stays for a while before the film begins anew.
    durations = [frame_ms] * (len(pictures) - 1) + [2000]
    buffer = io.BytesIO()
    pictures[0].save(
        buffer,
        format="GIF",
        save_all=True,
        append_images=list(pictures[1:]),
        duration=durations,
        loop=0,
        optimize=False,
        comment=MADE_BY.encode(),
    )
    return atomic_write(path, buffer.getvalue())
