"""Films: a picture every few seconds of a drive, written as an animated GIF."""

from __future__ import annotations

import io
from collections.abc import Sequence
from pathlib import Path

import numpy as np
from matplotlib.colors import to_rgb
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

from vinecompass.errors import InputError
from vinecompass.figures.canvas import (
    AUBERGINE,
    CHARCOAL,
    CORAL,
    OLIVE,
    PAPER,
    RUST,
    SAFFRON,
    SAND,
    SLATE,
    TEAL,
    strongest,
)
from vinecompass.files import MADE_BY, atomic_write, check_suffix
from vinecompass.grids import Grid, in_frame

__all__ = [
    "BODY",
    "FREE",
    "LOCAL",
    "MISS",
    "OCCUPIED",
    "PARTICLE",
    "PERSON",
    "SCAN",
    "UNKNOWN",
    "WAY",
    "WIDEST",
    "Sheet",
    "draw_body",
    "map_picture",
    "save_film",
]

WIDEST = 1000
"""Pixels a side that a frame has at most."""
PALETTE = (SAND, PAPER, AUBERGINE, TEAL, CHARCOAL, RUST, SLATE, OLIVE, SAFFRON, CORAL)
UNKNOWN, FREE, OCCUPIED, WAY, BODY, MISS, SCAN, PARTICLE, LOCAL, PERSON = range(10)
CAPTION = 26
"""Pixels below the map, where a caption stands."""


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


class Sheet:
    """The map as every frame of a film begins, upright in the site frame, with room for a caption.

    Parameters
    ----------
    grid : Grid

    Attributes
    ----------
    scale : float
        Metres a pixel.
    """

    def __init__(self, grid: Grid) -> None:
        # A turned map is drawn as it lies in the site.
        level = in_frame(grid, [*grid.corner_points.min(axis=0), 0.0]) if grid.turn else grid
        self._low = np.asarray(level.corner)
        step = max(1, -(-max(level.shape) // WIDEST))
        # A small map is drawn larger, so that the caption has room.
        zoom = max(1, round(600 / max(level.shape)))
        self.scale = level.cell_size * step / zoom
        picture = map_picture(level, self._low, np.array(level.shape[::-1]), step)
        self._map = picture.resize((picture.width * zoom, picture.height * zoom), Image.Resampling.NEAREST)

    def pixels(self, points: NDArray[np.float64]) -> list[tuple[float, float]]:
        """Return where site points ``(N, 2)`` are on a frame."""
        return [(float(x), float(self._map.height - y)) for x, y in (points - self._low) / self.scale]

    def frame(self, caption: str, colour: int) -> tuple[Image.Image, ImageDraw.ImageDraw]:
        """Return a new frame with its caption, and a pen to draw on it."""
        picture = Image.new("P", (self._map.width, self._map.height + CAPTION), FREE)
        picture.putpalette(self._map.getpalette() or [])
        picture.paste(self._map)
        pen = ImageDraw.Draw(picture)
        pen.rectangle((0, self._map.height, self._map.width, picture.height), fill=FREE, outline=BODY)
        pen.text((6, self._map.height + 5), caption, fill=colour, font=ImageFont.load_default(14))
        return picture, pen


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
