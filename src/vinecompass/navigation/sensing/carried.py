"""Whether the robot was carried: from one scan to the next all it sees lies elsewhere, though it did not drive."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import KDTree

from vinecompass.geometry import transform_points

__all__ = ["CarriedWatch"]

FloatArray = NDArray[np.float64]
EVERY = 4
"""Of so many points one is looked for in the scan before."""
SAME_PLACE = 0.3
"""Metres between points of two scans within which they are of the same thing."""
STILL_SEEN = 0.9
"""Share of the points that are of things seen before: 0.92 and more, on ten drives of other robots elsewhere."""
FEWEST = 10
"""Points below which a scan tells nothing."""


class CarriedWatch:
    """Compares each scan with the one before, both laid where the odometry has them.

    A robot that is lost on the map was wrong about where it is; what it saw beside it is there all the same. Only where
    it was carried it is not.

    Attributes
    ----------
    carried : bool
        Whether it was, since this was last set to False.
    """

    def __init__(self) -> None:
        self.carried = False
        self._before: KDTree | None = None

    def take(self, pose: FloatArray, points: NDArray[np.floating]) -> None:
        """Take in what a scan hit ``(N, 2)``, in the body frame, m, from a pose ``(3,)`` in the odometry's frame."""
        placed = transform_points(pose, points)
        asked = placed[::EVERY]
        if len(asked) < FEWEST:
            return
        if self._before is not None:
            away, _ = self._before.query(asked, distance_upper_bound=SAME_PLACE)
            self.carried |= bool(np.mean(np.isfinite(away)) < STILL_SEEN)
        self._before = KDTree(placed)
