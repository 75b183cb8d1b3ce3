"""What was seen on the last metres, as one scan: it tells places apart that a single one does not."""

from __future__ import annotations

from collections import deque

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose, relative, transform_points
from vinecompass.grids import MapRays
from vinecompass.localization.telling_beams import evidence_between

__all__ = ["RecentScans"]

FloatArray = NDArray[np.float64]
REACH = 15.0
"""Metres of way that are remembered: over more, odometry bends what was seen."""
APART, TURNED = 0.75, np.radians(30.0)
"""Metres and radians between two scans that are."""
FEW_ENDS = 90
"""About so many beams of each."""


class RecentScans:
    """Scans of the last metres, each where the odometry had the body then."""

    def __init__(self) -> None:
        self._scans: deque[tuple[float, FloatArray, FloatArray, FloatArray]] = deque()
        self._way = 0.0

    def drove(self, way: float) -> None:
        """Take in that the robot drove so many metres."""
        self._way += way

    def forget(self) -> None:
        """Begin anew, as after the robot was carried away."""
        self._scans.clear()

    @property
    def way(self) -> float:
        """Metres driven since the first scan that is remembered."""
        return self._way - self._scans[0][0] if self._scans else 0.0

    def add(self, odometry: FloatArray, origins: FloatArray, ends: FloatArray) -> None:
        """Take in a scan, by the body's pose ``(3,)`` in the track frame and its beams ``(N, 2)`` in the body frame."""
        if self._scans:
            step = relative(odometry, self._scans[-1][1])
            if np.hypot(step[0], step[1]) < APART and abs(step[2]) < TURNED:
                return
        every = -(-len(ends) // FEW_ENDS) or 1
        self._scans.append((self._way, odometry, origins[::every], ends[::every]))
        while self._way - self._scans[0][0] > REACH:
            self._scans.popleft()

    def evidence(self, rays: MapRays, odometry: FloatArray, here: FloatArray, there: FloatArray) -> float:
        """Return the logarithm of how many times likelier all that was seen is if the body is `there` now and not
        `here`, by the beams that tell the two poses ``(3,)`` apart."""
        total = 0.0
        for _, pose, origins, ends in self._scans:
            step = relative(pose, odometry)
            total += evidence_between(rays, compose(here, step), compose(there, step), origins, ends)
        return total

    def together(self, odometry: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return where all remembered beams begin and end ``(N, 2)``, in the frame of the body as it is now, m."""
        moved = [(relative(pose, odometry), origins, ends) for _, pose, origins, ends in self._scans]
        return (
            np.concatenate([transform_points(step, origins) for step, origins, _ in moved]),
            np.concatenate([transform_points(step, ends) for step, _, ends in moved]),
        )
