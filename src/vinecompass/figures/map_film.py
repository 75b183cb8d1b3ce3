"""A film of a map as it grows."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw

from vinecompass.figures.film import MISS, WAY, WIDEST, draw_body, map_picture, save_film
from vinecompass.files import check_suffix
from vinecompass.grids import Grid
from vinecompass.mapping import Mapper

__all__ = ["MapFilm"]


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
        self._mapper: Mapper | None = None

    def __call__(self, mapper: Mapper) -> None:
        """Look at a mapper after a scan; what another one drew before is forgotten."""
        if mapper is not self._mapper:
            self._mapper, self._next, self._frames = mapper, -np.inf, []
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
        check_suffix(path, ".gif")
        if not self._frames:
            return save_film([], path, frame_ms=frame_ms)
        low = np.min([grid.corner for grid, _, _ in self._frames], axis=0)
        high = np.max(
            [np.add(grid.corner, np.multiply(grid.shape[::-1], grid.cell_size)) for grid, _, _ in self._frames], axis=0
        )
        cells = np.ceil((high - low) / self._frames[0][0].cell_size).astype(int)
        every = max(1, int(np.ceil(cells.max() / WIDEST)))
        pictures, closed_before = [], 0
        for grid, way, closed in self._frames:
            pictures.append(_picture(grid, way, low, cells, every, border=closed > closed_before))
            closed_before = closed
        return save_film(pictures, path, frame_ms=frame_ms)


def _picture(
    grid: Grid,
    way: NDArray[np.float64],
    low: NDArray[np.float64],
    cells: NDArray[np.int64],
    every: int,
    *,
    border: bool,
) -> Image.Image:
    """Return one frame, of which all have the same size."""
    picture = map_picture(grid, low, cells, every)
    columns, rows = picture.size
    pen = ImageDraw.Draw(picture)
    scale = grid.cell_size * every
    points = [(float(x), float(rows - y)) for x, y in (way[:, :2] - low) / scale]
    pen.line(points, fill=WAY, width=2)
    draw_body(pen, points[-1], float(way[-1, 2]), max(3.0, 0.4 / scale))
    if border:
        pen.rectangle((0, 0, columns - 1, rows - 1), outline=MISS, width=3)
    return picture
