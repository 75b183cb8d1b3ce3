"""Beams that say "nothing there" where the map has a wall, scan after scan: broken ones, or ones that look at black."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose
from vinecompass.grids import MapRays
from vinecompass.robot import Lidar

__all__ = ["SilentBeams"]

FloatArray = NDArray[np.float64]
KEPT = 0.15
"""Weight of the newest scan in the mean by which a beam is known to be silent."""
SILENT = 0.7
"""Mean share of scans from which it is."""
WIDER_THAN = 3.0
"""Metres of wall that must be missed at once: less may have been taken away."""
NEIGHBOURS = 2
"""Beams apart that still look at one wall: one between them may give no reading."""
SURE = 0.75
"""Share of the lidar's reach within which a wall would surely have returned the beam."""
GRAZING = np.sin(np.radians(10.0))
"""Sine of the angle to a wall below which a beam may pass along it and be right: the heading is off by a little."""


class SilentBeams:
    """Tells which beams of a lidar are silent though they look at walls that the map knows.

    `inf`, nothing there, is a reading elsewhere; of these beams it is none: the floor that they look at is not free.

    Parameters
    ----------
    lidar : Lidar

    Attributes
    ----------
    silent : array of bool, (beams,)
    """

    def __init__(self, lidar: Lidar) -> None:
        self._lidar = lidar
        self._mean = np.zeros(lidar.beams)

    @property
    def silent(self) -> NDArray[np.bool_]:
        """Which beams are."""
        return self._mean > SILENT

    def take(self, ranges: NDArray[np.float32], pose: FloatArray, rays: MapRays) -> None:
        """Take in the ranges ``(beams,)`` of a scan from a body that is surely at a pose ``(3,)`` on a map."""
        nothing = np.flatnonzero(np.isposinf(ranges))
        missed = nothing[:0]
        if len(nothing):
            sensor, angles = compose(pose, self._lidar.mount_pose), self._lidar.beam_angles[nothing]
            walls = rays.ranges(sensor[None], angles, farthest=SURE * self._lidar.farthest)[0]
            there = np.isfinite(walls)
            walls, angles = walls[there], angles[there]
            ends = walls[:, None] * np.column_stack([np.cos(angles), np.sin(angles)])
            steps = np.hypot(*np.diff(ends, axis=0).T)
            squarely = walls[1:] * np.abs(np.diff(angles)) > GRAZING * steps
            squarely &= np.diff(nothing[there]) <= NEIGHBOURS
            meets = np.append(squarely, False) | np.append(False, squarely)
            if np.any(meets) and np.hypot(*np.ptp(ends[meets], axis=0)) > WIDER_THAN:
                missed = nothing[there][meets]
        self._mean *= 1.0 - KEPT
        self._mean[missed] += KEPT
        self._mean[np.isfinite(ranges)] = 0.0

    def left_out(self, ranges: NDArray[np.float32]) -> NDArray[np.float32]:
        """Return ranges with `nan`, no reading, for what the silent beams say of nothing being there."""
        wrong = self.silent & np.isposinf(ranges)
        return np.where(wrong, np.float32(np.nan), ranges) if np.any(wrong) else ranges
