"""Whether a submap can lie at a pose: what it shows there must not be what others saw through."""

from __future__ import annotations

from collections.abc import Sequence

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import inverse, transform_points
from vinecompass.mapping.submap import Submap, spread_evenly

__all__ = ["CONTRADICTED", "seen_through"]

FloatArray = NDArray[np.float64]
NEAREST = 8
"""So many former submaps are asked, those nearest by."""
BEYOND, BEHIND = 0.5, 0.3
"""Metres by which a beam must pass a point to have seen through it, and behind what it hit up to which it saw."""
POINTS, LEAST_SEEN = 200, 15
"""Of a submap's points so many are asked about, and so many of them must have been in sight to tell anything."""
CONTRADICTED = 0.2
"""Share from which a submap does not lie there: 0.14 at most was measured where it did, 0.28 at least elsewhere."""


def seen_through(
    submaps: Sequence[Submap], poses: FloatArray, former: Sequence[int], points: FloatArray, pose: FloatArray
) -> float:
    """Return the share of points in sight of former submaps that these saw through; 0 if hardly any was in sight.

    Parameters
    ----------
    submaps : sequence of Submap
    poses : array, (submaps, 3)
        Theirs, m and radians.
    former : sequence of int
        The submaps that are asked.
    points : array, (N, 2) or (N, 4)
        What the submap shows, in its frame, m.
    pose : array, (3,)
        Its pose that is in question.
    """
    few = transform_points(pose, spread_evenly(points[:, :2], 0.25, POINTS))
    asked = [number for number in former if submaps[number].members]
    middles = np.array([transform_points(poses[number], submaps[number].middle[None])[0] for number in asked])
    through, in_sight = np.zeros(len(few), bool), np.zeros(len(few), bool)
    nearest = np.argsort(np.hypot(*(middles.reshape(-1, 2) - pose[:2]).T), kind="stable")[:NEAREST]
    for k in nearest.tolist():
        there = transform_points(inverse(poses[asked[k]]), few)
        through |= submaps[asked[k]].sees(there, -BEYOND, by_all=True)
        in_sight |= submaps[asked[k]].sees(there, BEHIND)
    seen = int(np.count_nonzero(in_sight))
    return float(np.count_nonzero(through & in_sight) / seen) if seen >= LEAST_SEEN else 0.0
