"""A film of the particle cloud and the scan on the map."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray
from PIL import Image, ImageDraw, ImageFont

from vinecompass.figures.film import (
    BODY,
    FREE,
    MISS,
    OCCUPIED,
    PARTICLE,
    SCAN,
    WAY,
    WIDEST,
    draw_body,
    map_picture,
    save_film,
)
from vinecompass.grids import Grid, in_frame
from vinecompass.localization import Estimate, ParticleLocalizer

__all__ = ["LocalizationFilm"]

MOST_FILMED = 600
CAPTION = 26
"""Pixels below the map, where the state and its reason stand."""


class LocalizationFilm:
    """Watches a `ParticleLocalizer` and keeps a picture every so often.

    Parameters
    ----------
    grid : Grid
    every : float
        Seconds of the drive between frames; a change of state has a frame of its own.

    Examples
    --------
    >>> # film = LocalizationFilm(grid, every=1.0)
    >>> # localize(grid, run, start, watch=film); film.save("cloud.gif")
    """

    def __init__(self, grid: Grid, *, every: float) -> None:
        # A turned map is drawn as it lies in the site.
        level = in_frame(grid, [*grid.corner_points.min(axis=0), 0.0]) if grid.turn else grid
        self._low = np.asarray(level.corner)
        self._every = every
        self._next = -np.inf
        step = max(1, -(-max(level.shape) // WIDEST))
        # A small map is drawn larger, so that the caption has room.
        self._zoom = max(1, round(600 / max(level.shape)))
        self._scale = level.cell_size * step / self._zoom
        cells = np.array(level.shape[::-1])
        picture = map_picture(level, self._low, cells, step)
        self._map = picture.resize((picture.width * self._zoom, picture.height * self._zoom), Image.Resampling.NEAREST)
        self._state = ""
        self._way: list[tuple[float, float]] = []
        self._pictures: list[Image.Image] = []

    def __call__(self, localizer: ParticleLocalizer, estimate: Estimate) -> None:
        """Look at a localizer after a scan."""
        self._way.append(self._pixels(estimate.pose[None, :2])[0])
        if estimate.t < self._next and estimate.state == self._state:
            return
        self._next = estimate.t + self._every
        self._state = estimate.state
        self._pictures.append(self._picture(localizer, estimate))

    def save(self, path: str | Path, *, frame_ms: int = 120) -> Path:
        """Write the film as an animated GIF; raise `InputError` if it saw nothing."""
        return save_film(self._pictures, path, frame_ms=frame_ms)

    def _pixels(self, points: NDArray[np.float64]) -> list[tuple[float, float]]:
        return [(float(x), float(self._map.height - y)) for x, y in (points - self._low) / self._scale]

    def _picture(self, localizer: ParticleLocalizer, estimate: Estimate) -> Image.Image:
        picture = Image.new("P", (self._map.width, self._map.height + CAPTION), FREE)
        picture.putpalette(self._map.getpalette() or [])
        picture.paste(self._map)
        pen = ImageDraw.Draw(picture)
        snapshot = localizer.snapshot()
        if len(self._way) > 1:
            pen.line(self._way, fill=WAY, width=2)
        for verdicts, colour in ((snapshot.scan.verdicts == 0, SCAN), (snapshot.scan.verdicts != 0, MISS)):
            for x, y in self._pixels(snapshot.scan.ends[verdicts]):
                pen.rectangle((x - 1, y - 1, x + 1, y + 1), fill=colour)
        some = snapshot.particles[:: -(-len(snapshot.particles) // MOST_FILMED)]
        length = 0.3 / self._scale
        for (x, y), heading in zip(self._pixels(some[:, :2]), some[:, 2], strict=True):
            pen.line((x, y, x + length * np.cos(heading), y - length * np.sin(heading)), fill=PARTICLE, width=1)
        x, y = self._pixels(estimate.pose[None, :2])[0]
        draw_body(pen, (x, y), float(estimate.pose[2]), max(3.0, 0.4 / self._scale))
        colour = OCCUPIED if estimate.state == "tracking" else MISS
        text = f"{estimate.t:6.1f} s  {estimate.state}: {estimate.reason}"
        pen.rectangle((0, self._map.height, self._map.width, picture.height), fill=FREE, outline=BODY)
        pen.text((6, self._map.height + 5), text, fill=colour, font=ImageFont.load_default(14))
        return picture
