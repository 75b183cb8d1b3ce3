"""A film of the particle cloud and the scan on the map."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from PIL import Image

from vinecompass.figures.film import (
    MISS,
    OCCUPIED,
    PARTICLE,
    SCAN,
    WAY,
    Sheet,
    draw_body,
    save_film,
)
from vinecompass.grids import Grid
from vinecompass.localization import Estimate, ParticleLocalizer

__all__ = ["LocalizationFilm"]

MOST_FILMED = 600


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
        self._sheet = Sheet(grid)
        self._every = every
        self._next = -np.inf
        self._state = ""
        self._way: list[tuple[float, float]] = []
        self._pictures: list[Image.Image] = []

    def __call__(self, localizer: ParticleLocalizer, estimate: Estimate) -> None:
        """Look at a localizer after a scan."""
        self._way.append(self._sheet.pixels(estimate.pose[None, :2])[0])
        if estimate.t < self._next and estimate.state == self._state:
            return
        self._next = estimate.t + self._every
        self._state = estimate.state
        self._pictures.append(self._picture(localizer, estimate))

    def save(self, path: str | Path, *, frame_ms: int = 120) -> Path:
        """Write the film as an animated GIF; raise `InputError` if it saw nothing."""
        return save_film(self._pictures, path, frame_ms=frame_ms)

    def _picture(self, localizer: ParticleLocalizer, estimate: Estimate) -> Image.Image:
        colour = OCCUPIED if estimate.state == "tracking" else MISS
        picture, pen = self._sheet.frame(f"{estimate.t:6.1f} s  {estimate.state}: {estimate.reason}", colour)
        snapshot = localizer.snapshot()
        if len(self._way) > 1:
            pen.line(self._way, fill=WAY, width=2)
        for verdicts, colour in ((snapshot.scan.verdicts == 0, SCAN), (snapshot.scan.verdicts != 0, MISS)):
            for x, y in self._sheet.pixels(snapshot.scan.ends[verdicts]):
                pen.rectangle((x - 1, y - 1, x + 1, y + 1), fill=colour)
        some = snapshot.particles[:: -(-len(snapshot.particles) // MOST_FILMED)]
        length = 0.3 / self._sheet.scale
        for (x, y), heading in zip(self._sheet.pixels(some[:, :2]), some[:, 2], strict=True):
            pen.line((x, y, x + length * np.cos(heading), y - length * np.sin(heading)), fill=PARTICLE, width=1)
        x, y = self._sheet.pixels(estimate.pose[None, :2])[0]
        draw_body(pen, (x, y), float(estimate.pose[2]), max(3.0, 0.4 / self._sheet.scale))
        return picture
