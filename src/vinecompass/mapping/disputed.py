"""Where a map contradicts itself: what some scans hit, others saw through."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vinecompass.geometry import transform_points
from vinecompass.grids import Grid
from vinecompass.mapping.submap import Submap
from vinecompass.mapping.wide_search import NEARER_THAN

__all__ = ["Dispute", "disputes"]

FloatArray = NDArray[np.float64]
FEWEST_POINTS = 100
"""How many points near the body a submap must have to be asked about."""
OFF_WALLS = 0.15
"""Metres from all that is occupied at which a point lies on free floor."""
DISPUTED = 0.2
"""Share of such points from which walls stand twice. People who walk by come to half of that."""


@dataclass(frozen=True)
class Dispute:
    """A submap of which much lies on floor that is free by what other scans saw: walls stand there twice.

    Parameters
    ----------
    begin, end : float
        When its scans were taken, s.
    x, y : float
        The middle of where from, m.
    share : float
        Of what they hit nearby, 0 to 1.
    """

    begin: float
    end: float
    x: float
    y: float
    share: float


def disputes(submaps: Sequence[Submap], poses: FloatArray, grid: Grid) -> list[Dispute]:
    """Return the disputes in a map that was made of submaps at poses ``(N, 3)``, in their order."""
    away = ndimage.distance_transform_edt(~grid.occupied) * grid.cell_size
    open_floor = grid.free & (away > OFF_WALLS)
    found = []
    for number, (submap, pose) in enumerate(zip(submaps, poses, strict=True)):
        points = submap.points(of=number, nearer_than=NEARER_THAN)
        if len(points) < FEWEST_POINTS:
            continue
        share = float(np.mean(grid.values_at(transform_points(pose, points), open_floor, outside=False)))
        if share > DISPUTED:
            stamps = [keyframe.t for keyframe, _ in submap.members if keyframe.submap == number]
            x, y = transform_points(pose, submap.middle[None])[0].tolist()
            found.append(Dispute(stamps[0], stamps[-1], x, y, share))
    return found
