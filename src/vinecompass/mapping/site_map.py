"""The map of the site: all kept scans from where the pose graph puts them, and moved when it moves them."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose, relative
from vinecompass.grids import BeamGrid, Grid, SensorModel
from vinecompass.mapping.settings import MappingSettings
from vinecompass.mapping.submap import Keyframe, Submap

__all__ = ["SiteMap"]

FloatArray = NDArray[np.float64]
MOVED, LEVER = 0.1, 8.0
"""Share of a cell by which something `LEVER` metres away from a keyframe must move for it to be drawn anew."""


class SiteMap:
    """The grid that keyframes are counted into.

    Attributes
    ----------
    grid : BeamGrid
    redrawn : int
        How often a keyframe was taken out and put in again elsewhere.
    """

    def __init__(self, settings: MappingSettings) -> None:
        self.grid = BeamGrid(settings.cell_size, clear_margin=settings.clear_margin)
        self.redrawn = 0
        self._model = SensorModel(settings.hit_if_occupied, settings.hit_if_free, settings.bound)
        self._poses: list[FloatArray] = []

    def snapshot(self, keyframes: Sequence[Keyframe], submaps: Sequence[Submap]) -> Grid:
        """Bring the map up to date and return it; only what is new or has moved is counted anew."""
        for number, keyframe in enumerate(keyframes):
            pose = compose(submaps[keyframe.submap].pose, keyframe.pose)
            if number < len(self._poses):
                off = np.abs(relative(pose, self._poses[number]))
                if np.hypot(off[0], off[1]) + LEVER * off[2] < MOVED * self.grid.cell_size:
                    continue
                self.grid.remove(self._poses[number], keyframe.beams)
                self._poses[number] = pose
                self.redrawn += 1
            else:
                self._poses.append(pose)
            self.grid.add(pose, keyframe.beams)
        return self.grid.snapshot(self._model)
