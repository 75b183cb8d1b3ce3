"""On which side a path passes what stands or walks alone, and how to lead it past the other side."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage

from vinecompass.contact import Walking
from vinecompass.costs import CostMap
from vinecompass.following.band.way_kernels import nearest_of, passed_on
from vinecompass.geometry import distance_along

__all__ = ["Island", "detour", "islands_near", "sides_of"]

FloatArray = NDArray[np.float64]
ISLAND_WITHIN = 1.6
"""Metres from a path within which an island matters to it."""
BUMP = 1.8
"""Metres before and behind an island over which a path swerves."""
PACE = 0.8
"""m/s at which a robot is taken to go along a path, to tell where it meets people."""
LARGEST = 1.5
"""Metres across. What is larger is no island but a wall: the global plan knows its sides."""


@dataclass(frozen=True)
class Island:
    """Something that can be passed on either side: a person, or a thing seen that the map does not know.

    Parameters
    ----------
    x, y : float
        Its middle in the site frame, m.
    reach : float
        How far it reaches from there, m.
    person : int
        Which of the people it is, or -1.
    """

    x: float
    y: float
    reach: float
    person: int = -1


def islands_near(path: FloatArray, floor: CostMap | None, people: Sequence[Walking], reach: float) -> list[Island]:
    """Return what stands alone within `reach` metres of the start of a path ``(N, 2)``, the nearest first.

    A person is where a robot that goes along the path will come nearest to it.
    """
    pose = path[0]
    found = [_where_met(path, each, number) for number, each in enumerate(people)]
    if floor is not None and "obstacles" in floor.layers:
        (first_row, first_column), (last_row, last_column) = floor.grid.window_about(pose[:2], reach)
        closed = np.isinf(floor.layers["obstacles"][first_row:last_row, first_column:last_column])
        # Eight neighbours: a thing seen from one side is a thin row of cells.
        marks, _ = ndimage.label(closed, np.ones((3, 3)))
        for number, part in enumerate(ndimage.find_objects(marks), 1):
            cells = np.argwhere(marks[part] == number) + (part[0].start + first_row, part[1].start + first_column)
            points = floor.grid.points_of(cells)
            middle = points.mean(axis=0)
            size = float(np.hypot(*(points - middle).T).max()) + 0.5 * floor.grid.cell_size
            alone = all(np.hypot(each.x - middle[0], each.y - middle[1]) > 0.6 for each in people)
            if size < 0.5 * LARGEST and alone:
                found.append(Island(float(middle[0]), float(middle[1]), size))
    near = [each for each in found if np.hypot(each.x - pose[0], each.y - pose[1]) < reach]
    return sorted(near, key=lambda each: float(np.hypot(each.x - pose[0], each.y - pose[1])))


def _where_met(path: FloatArray, person: Walking, number: int) -> Island:
    t = distance_along(path) / PACE
    x, y = person.x + t * person.velocity_x, person.y + t * person.velocity_y
    k = int(np.argmin(np.hypot(path[:, 0] - x, path[:, 1] - y)))
    return Island(float(x[k]), float(y[k]), person.radius, number)


def sides_of(path: FloatArray, islands: Sequence[Island]) -> tuple[int, ...]:
    """Return on which side of a path ``(N, 2)`` or more columns each island lies: 1 left, -1 right, 0 not beside it."""
    places = np.array([(each.x, each.y, each.reach) for each in islands]).reshape(-1, 3)
    return tuple(passed_on(path, places, ISLAND_WITHIN).tolist())


def detour(path: FloatArray, island: Island, side: int, room: float) -> FloatArray:
    """Return a path ``(N, 2)`` led past an island, which then lies on its left (1) or right (-1), with some room, m."""
    k = nearest_of(path, island.x, island.y)
    ahead = path[min(k + 1, len(path) - 1), :2] - path[max(k - 1, 0), :2]
    normal = np.array([-ahead[1], ahead[0]]) / max(float(np.hypot(ahead[0], ahead[1])), 1e-9)
    off = np.array([island.x, island.y]) - path[k, :2]
    # Seen from where the path should be, the island lies `reach + room` off to the side.
    wanted = float(off @ normal) - side * (island.reach + room)
    along = distance_along(path)
    share = np.clip(np.abs(along - along[k]) / BUMP, 0.0, 1.0)
    bump = np.cos(0.5 * np.pi * share) ** 2
    # Both ends stay.
    bump *= np.clip(along / 0.4, 0.0, 1.0) * np.clip((along[-1] - along) / 0.4, 0.0, 1.0)
    return np.asarray(path[:, :2] + (wanted * bump)[:, None] * normal)
