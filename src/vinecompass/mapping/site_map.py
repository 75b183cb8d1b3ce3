"""The map of the site: all kept scans from where the pose graph puts them, and moved when it moves them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from vinecompass.grids import DECIDED, BeamGrid, Grid, SensorModel
from vinecompass.mapping.submap import Keyframe
from vinecompass.robot import Lidar
from vinecompass.settings import MappingSettings

__all__ = ["SiteMap"]

FloatArray = NDArray[np.float64]
POINTING_SPREAD = 0.003
"""Metres by which a beam's end may be off for each metre that it went, since beams and poses point that well only."""
FINENESS, LEVER = 0.1, 8.0
"""Poses are rounded to this share of a cell, and headings to what moves something `LEVER` metres away by as much: so
what a loop hardly moves stays as it is drawn, and a map depends on where things are, not on how they came there."""


class SiteMap:
    """The grid that keyframes are counted into, `grid`."""

    def __init__(self, settings: MappingSettings, lidar: Lidar) -> None:
        spread = float(np.hypot(lidar.range_noise_per_metre, POINTING_SPREAD))
        self.grid = BeamGrid(settings.cell_size, clear_margin=settings.clear_margin, spread=spread)
        self._model = SensorModel(settings.hit_if_occupied, settings.hit_if_free, settings.bound)
        self._counted: dict[int, tuple[Keyframe, FloatArray]] = {}
        """The keyframes counted, by their identity, and where."""
        step = FINENESS * settings.cell_size
        self._steps = np.array([step, step, step / LEVER])

    def snapshot(self, keyframes: Sequence[Keyframe], poses: FloatArray) -> Grid:
        """Bring the map up to date with the body's poses ``(N, 3)`` at the keyframes, and return it.

        Only what is new or has moved is counted anew, and what is no longer kept no more.
        """
        places = np.rint(poses / self._steps) * self._steps
        kept = {id(keyframe) for keyframe in keyframes}
        for key in [key for key in self._counted if key not in kept]:
            keyframe, former = self._counted.pop(key)
            self.grid.remove(former, keyframe.beams)
        for keyframe, place in zip(keyframes, places, strict=True):
            if id(keyframe) in self._counted:
                former = self._counted[id(keyframe)][1]
                if np.array_equal(place, former):
                    continue
                self.grid.remove(former, keyframe.beams)
            self._counted[id(keyframe)] = keyframe, place
            self.grid.add(place, keyframe.beams)
        return _closed_up(self.grid.snapshot(self._model))


def _closed_up(grid: Grid) -> Grid:
    """Read single cells that all beams missed as barely free, if the floor on all four sides of them is free."""
    free, unseen = grid.free, grid.log_odds == 0.0
    between = np.zeros(grid.shape, dtype=bool)
    between[1:-1, 1:-1] = free[:-2, 1:-1] & free[2:, 1:-1] & free[1:-1, :-2] & free[1:-1, 2:]
    grid.log_odds[unseen & between] = -(DECIDED + 0.01)
    return grid
