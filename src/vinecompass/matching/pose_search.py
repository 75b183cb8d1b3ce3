"""Search for a pose over a wide window, or a whole map, that misses no optimum: branch and bound."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.geometry import wrap_angle
from vinecompass.matching.kernels import best_pose, good_poses
from vinecompass.matching.wall_grid import WallGrid

__all__ = ["Candidate", "PoseSearch"]

FloatArray = NDArray[np.float64]
LEVELS = 6
"""Of the pyramid: the largest blocks are 32 cells a side."""


@dataclass(frozen=True)
class Candidate:
    """A pose where points fit a map.

    Parameters
    ----------
    pose : array, (3,)
        In the map's frame, m and radians; to the cell, and to the step of heading that was searched.
    agreement : float
        Mean of the likelihood field at the points, 0 to 1.
    """

    pose: FloatArray
    agreement: float


class PoseSearch:
    """A likelihood field made ready to be searched for the pose that points fit best.

    Parameters
    ----------
    field : array, (rows, columns)
        Between 0 and 1, as of `vinecompass.grids.likelihood_field` or of a `WallGrid`.
    cell_size : float
        Metres.
    corner : array_like, (2,)
        The outer corner of cell ``[0, 0]``, m.

    Notes
    -----
    Branch and bound over a pyramid of maxima (Hess, Kohler, Rapp and Andor, 2016;
    Olson, 2015, "M3RSM: Many-to-many multi-resolution scan matching"). The best of all whole-cell
    offsets and headings in the window is found, never another.

    Examples
    --------
    >>> field = np.zeros((200, 200))
    >>> field[80, 120] = field[80, 121] = field[83, 120] = 1.0
    >>> search = PoseSearch(field, 0.1)
    >>> found = search.find([[1.0, 0.0], [1.1, 0.0], [1.0, 0.3]], headings=[0.0], low=[0.0, 0.0], high=[20.0, 20.0])
    >>> found.pose.round(2).tolist(), found.agreement
    ([11.05, 8.05, 0.0], 1.0)
    """

    def __init__(self, field: ArrayLike, cell_size: float, corner: ArrayLike = (0.0, 0.0)) -> None:
        self.cell_size = cell_size
        self.corner = np.asarray(corner, dtype=float)
        lowest = np.rint(255.0 * np.asarray(field)).astype(np.uint8)
        # A block may begin before the field does: by less than the side of the largest.
        self._pad = 2 ** (LEVELS - 1)
        self._pyramid = np.zeros((LEVELS, lowest.shape[0] + self._pad, lowest.shape[1] + self._pad), np.uint8)
        self._pyramid[0, self._pad :, self._pad :] = lowest
        for level in range(1, LEVELS):
            below, above, half = self._pyramid[level - 1], self._pyramid[level], 2 ** (level - 1)
            np.maximum(below[:, :-half], below[:, half:], out=above[:, :-half])
            above[:, -half:] = below[:, -half:]
            above[:-half] = np.maximum(above[:-half], above[half:])

    @classmethod
    def of_points(cls, points: FloatArray, *, cell_size: float, spread: float) -> PoseSearch:
        """Return points on walls ``(N, 2)``, m, made ready to be searched; the field falls off by `spread`, m."""
        walls = WallGrid.of_points(points, cell_size=cell_size, spread=spread)
        return cls(walls.field, cell_size, walls.corner)

    @property
    def shape(self) -> tuple[int, int]:
        """Rows and columns of the field."""
        return self._pyramid.shape[1] - self._pad, self._pyramid.shape[2] - self._pad

    def find(
        self,
        points: ArrayLike,
        *,
        headings: ArrayLike,
        low: ArrayLike,
        high: ArrayLike,
        least: float = 0.0,
        unlike: Candidate | None = None,
        apart: tuple[float, float] = (0.5, 0.1),
        line: float | None = None,
    ) -> Candidate | None:
        """Return the best pose in a window, or None if none agrees better than `least`.

        Parameters
        ----------
        points : array_like, (N, 2)
            In the body frame, m.
        headings : array_like, (H,)
            Those to try, radians, in order.
        low, high : array_like, (2,)
            The window of positions, m.
        least : float
            Agreement that must be exceeded, 0 to 1.
        unlike : Candidate, optional
            Leave out poses within `apart`, m and radians, of this one: to see whether there is another.
        line : float, optional
            Leave out those as near to a line of this heading through that pose, too, however far along it, radians.
        """
        wanted = np.asarray(headings, dtype=float)
        cells = np.asarray(points, dtype=float) / self.cell_size
        first, last = (
            np.floor((np.asarray(end, dtype=float) - self.corner) / self.cell_size).astype(np.int64)
            for end in (low, high)
        )
        excluded = np.array([0.0, 0.0, 1.0, 0.0, -1.0, -1.0, 1.0, -1.0])
        if unlike is not None:
            alike = np.flatnonzero(np.abs(wrap_angle(wanted - unlike.pose[2])) <= apart[1])
            middle = np.floor((unlike.pose[:2] - self.corner) / self.cell_size).astype(np.int64)
            reach = int(np.ceil(apart[0] / self.cell_size))
            if len(alike):
                length, heading = (reach, 0.0) if line is None else (np.inf, line)
                box = (*middle, np.cos(heading), np.sin(heading), length, reach)
                excluded = np.array([*box, alike[0], alike[-1]])
        found, x, y, heading, total = best_pose(
            self._pyramid, self._pad, cells, wanted, first, last, int(255 * least * len(cells)), excluded
        )
        if not found:
            return None
        return self._candidate(x, y, wanted[heading], total, len(cells))

    def find_all(
        self,
        points: ArrayLike,
        *,
        headings: ArrayLike,
        floor: NDArray[np.bool_],
        least: float,
        share: float,
        apart: tuple[float, float] = (1.0, 0.35),
        most: int = 64,
    ) -> list[Candidate]:
        """Return every pose on the whole map that fits nearly as well as the best one, the best first.

        Parameters
        ----------
        points : array_like, (N, 2)
            In the body frame, m.
        headings : array_like, (H,)
            Those to try, radians, in order.
        floor : array of bool, (rows, columns)
            The cells of the field where the body's origin may be.
        least : float
            Agreement that must be exceeded, 0 to 1.
        share : float
            Of the best one's agreement, that the others must exceed.
        apart : (float, float)
            Metres along each axis, and radians, within which poses count as one; the best of them is given.
        most : int
            How many are given at most.
        """
        wanted = np.asarray(headings, dtype=float)
        cells = np.asarray(points, dtype=float) / self.cell_size
        found = good_poses(
            self._pyramid,
            self._pad,
            cells,
            wanted,
            floor,
            int(255 * least * len(cells)),
            share,
            round(apart[0] / self.cell_size),
            apart[1],
            most,
        )
        candidates = [self._candidate(x, y, wanted[h], total, len(cells)) for x, y, h, total in found]
        best = max((candidate.agreement for candidate in candidates), default=0.0)
        good = [candidate for candidate in candidates if candidate.agreement > share * best]
        return sorted(good, key=lambda candidate: -candidate.agreement)

    def _candidate(self, x: int, y: int, heading: float, total: float, count: int) -> Candidate:
        place = (np.array([x, y]) + 0.5) * self.cell_size + self.corner
        return Candidate(np.append(place, wrap_angle(heading)), float(total / (255.0 * count)))
