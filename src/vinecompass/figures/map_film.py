"""A film of a map as it grows."""

from __future__ import annotations

import io
from pathlib import Path

import numpy as np
from matplotlib.colors import to_rgb
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from vinecompass.errors import InputError
from vinecompass.figures.canvas import AUBERGINE, CHARCOAL, PAPER, RUST, SAND, TEAL, strongest
from vinecompass.files import atomic_write, check_suffix
from vinecompass.grids import Grid
from vinecompass.mapping import Mapper

__all__ = ["MapFilm"]

WIDEST = 1000
"""Pixels a side that a frame has at most."""
PALETTE = (SAND, PAPER, AUBERGINE, TEAL, CHARCOAL, RUST)
UNKNOWN, FREE, OCCUPIED, WAY, BODY, LOOP = range(6)


class MapFilm:
    """Watches a `Mapper` and keeps a frame every few seconds of the drive.

    Parameters
    ----------
    every : float
        Seconds of the drive between frames.

    Examples
    --------
    >>> film = MapFilm(every=5.0)  # mapping = build_map(run, watch=film); film.save("growing.gif")
    """

    def __init__(self, *, every: float) -> None:
        self._every = every
        self._frames: list[tuple[Grid, NDArray[np.float64], int]] = []
        self._next = -np.inf

    def __call__(self, mapper: Mapper) -> None:
        """Look at a mapper after a scan."""
        if mapper.keyframes and mapper.keyframes[-1].t >= self._next:
            self._next = mapper.keyframes[-1].t + self._every
            self.add(mapper)

    def add(self, mapper: Mapper) -> None:
        """Keep the map as it is now."""
        self._frames.append((mapper.snapshot(), mapper.way, len(mapper.closed_loops)))

    def save(self, path: str | Path, *, frame_ms: int = 120) -> Path:
        """Write the film as an animated GIF; a frame in which a loop was closed has a border.

        Raises
        ------
        InputError
            The name does not end in ``.gif``, or there is no frame.
        """
        path = check_suffix(path, ".gif")
        if not self._frames:
            raise InputError("nothing was mapped", file=path, expected="a mapper that has seen a scan")
        low = np.min([grid.corner for grid, _, _ in self._frames], axis=0)
        high = np.max([np.add(grid.corner, np.multiply(grid.shape[::-1], grid.cell_size))
                       for grid, _, _ in self._frames], axis=0)  # fmt: skip
        cells = np.ceil((high - low) / self._frames[0][0].cell_size).astype(int)
        every = max(1, int(np.ceil(cells.max() / WIDEST)))
        pictures, closed_before = [], 0
        for grid, way, closed in self._frames:
            pictures.append(_picture(grid, way, low, cells, every, border=closed > closed_before))
            closed_before = closed
        # The last one stays for a while before the film begins anew.
        durations = [frame_ms] * (len(pictures) - 1) + [2000]
        buffer = io.BytesIO()
        pictures[0].save(
            buffer, format="GIF", save_all=True, append_images=pictures[1:], duration=durations, loop=0, optimize=False
        )
        return atomic_write(path, buffer.getvalue())


def _picture(
    grid: Grid, way: NDArray[np.float64], low: NDArray[np.float64], cells: NDArray[np.int64], every: int, *,
    border: bool,
) -> Image.Image:  # fmt: skip
    """Return one frame, of which all have the same size."""
    sheet = np.full((cells[1], cells[0]), UNKNOWN, np.uint8)
    column, row = np.rint((np.asarray(grid.corner) - low) / grid.cell_size).astype(int)
    part = sheet[row : row + grid.shape[0], column : column + grid.shape[1]]
    part[grid.free[: part.shape[0], : part.shape[1]]] = FREE
    part[grid.occupied[: part.shape[0], : part.shape[1]]] = OCCUPIED
    pixels = strongest(sheet, every)[::-1]
    rows, columns = pixels.shape
    picture = Image.fromarray(pixels, mode="P")
    picture.putpalette([round(255 * value) for colour in PALETTE for value in to_rgb(colour)])
    pen = ImageDraw.Draw(picture)
    scale = grid.cell_size * every
    points = [(float(x), float(rows - y)) for x, y in (way[:, :2] - low) / scale]
    pen.line(points, fill=WAY, width=2)
    x, y = points[-1]
    size = max(3.0, 0.4 / scale)
    pen.ellipse((x - size, y - size, x + size, y + size), outline=BODY, width=2)
    heading = way[-1, 2]
    pen.line((x, y, x + 2.0 * size * np.cos(heading), y - 2.0 * size * np.sin(heading)), fill=BODY, width=2)
    if border:
        pen.rectangle((0, 0, columns - 1, rows - 1), outline=LOOP, width=3)
    return picture
