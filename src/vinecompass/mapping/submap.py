"""Submaps: short pieces of the drive that are rigid in themselves, and the scans kept in them."""

from __future__ import annotations

from dataclasses import dataclass, field

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.geometry import transform_oriented, wrap_angle
from vinecompass.grids import Beams
from vinecompass.matching import WallGrid

__all__ = ["Keyframe", "Submap", "spread_evenly"]

FloatArray = NDArray[np.float64]
VIEWS, BESIDE = 5, np.radians(2.0)
"""Scans of a submap by which is told what it could see, and how near to a beam, in radians, a point must lie."""


@dataclass(frozen=True)
class Keyframe:
    """A scan that is kept.

    Parameters
    ----------
    t : float
        Its stamp, s.
    beams : Beams
        Straightened, in the body frame.
    submap : int
        The submap it was matched against, which carries it along.
    pose : array, (3,)
        The body's in that submap's frame, m and radians.
    """

    t: float
    beams: Beams
    submap: int
    pose: FloatArray


@dataclass
class Submap:
    """A piece of the drive; its frame is that of the body at its first keyframe, and lies where the pose graph says.

    Parameters
    ----------
    t : float
        Stamp of its first keyframe, s.
    begins_at : float
        How far the robot had travelled before it, m.
    unwatched : float
        How far of that while the scans did not show it, m.
    walls : WallGrid or None
        What scans are matched against while the submap is being made.
    members : list of (Keyframe, array)
        The keyframes it is made of, and the body's pose in the submap's frame at each; none where it was merged with
        former ones.
    middle : array, (2,)
        The mean position of the body in it.
    """

    t: float
    begins_at: float
    unwatched: float
    walls: WallGrid | None
    members: list[tuple[Keyframe, FloatArray]] = field(default_factory=list)
    middle: FloatArray = field(default_factory=lambda: np.zeros(2))

    def add(self, keyframe: Keyframe, pose: FloatArray) -> None:
        """Add a keyframe at a pose in the submap's frame."""
        assert self.walls is not None
        self.walls.add(transform_oriented(pose, keyframe.beams.oriented_hits))
        self.members.append((keyframe, pose))
        self.middle = self.middle + (pose[:2] - self.middle) / len(self.members)

    def points(self, *, of: int | None = None, nearer_than: float = np.inf) -> FloatArray:
        """Return what its beams hit ``(N, 2)`` in its frame, m; parameters as of `oriented_points`."""
        return self.oriented_points(of=of, nearer_than=nearer_than)[:, :2]

    def oriented_points(self, *, of: int | None = None, nearer_than: float = np.inf) -> FloatArray:
        """Return what its beams hit with the normals of the surfaces ``(N, 4)`` in its frame, m.

        Parameters
        ----------
        of : int, optional
            Only of the keyframes matched against the submap of this number.
        nearer_than : float
            Only what lies nearer to the body, m.
        """
        parts = [np.zeros((0, 4))]
        for keyframe, pose in self.members:
            if of is None or keyframe.submap == of:
                hits = keyframe.beams.oriented_hits
                parts.append(transform_oriented(pose, hits[np.hypot(hits[:, 0], hits[:, 1]) < nearer_than]))
        return np.concatenate(parts)

    def sees(self, points: FloatArray, margin: float, *, by_all: bool = False) -> NDArray[np.bool_]:
        """Return which points in its frame lie where its scans could see, or up to a margin beyond, m.

        By one of the beams beside a point, or `by_all` of the two on each side: a beam may pass where the next hits.
        Of oriented points ``(N, 4)`` those are not seen whose surface faces the other way.
        """
        seen = np.zeros(len(points), bool)
        for keyframe, pose in self.members[:: -(-len(self.members) // VIEWS) or 1]:
            hits = keyframe.beams.hits
            if len(hits) < 2:
                continue
            bearings, reaches = np.arctan2(hits[:, 1], hits[:, 0]), np.hypot(hits[:, 0], hits[:, 1])
            order = np.argsort(bearings)
            offsets = points[:, :2] - pose[:2]
            angles, away = wrap_angle(np.arctan2(offsets[:, 1], offsets[:, 0]) - pose[2]), np.hypot(*offsets.T)
            after = np.searchsorted(bearings[order], angles) % len(hits)
            beams = order[
                (after + np.arange(-2, 2)[:, None] if by_all else after + np.arange(-1, 1)[:, None]) % len(hits)
            ]
            near = (np.abs(wrap_angle(angles - bearings[beams])) < BESIDE) & (away < reaches[beams] + margin)
            # What is not oriented has no normals: an empty sum.
            faces = np.sum(points[:, 2:] * offsets[:, : points.shape[1] - 2], axis=1) <= 0.0
            seen |= faces & (near.all(axis=0) if by_all else near.any(axis=0))
        return seen


def spread_evenly(points: ArrayLike, apart: float, most: int) -> FloatArray:
    """Return at most `most` of some points: the first in each square of side `apart`, m, evenly thinned.

    They are ``(N, 2)`` or, oriented, ``(N, 4)``.

    >>> spread_evenly([[0.1, 0.1], [0.2, 0.2], [1.1, 0.1]], 1.0, 9).tolist()
    [[0.1, 0.1], [1.1, 0.1]]
    """
    xy = np.asarray(points, dtype=float)
    squares = np.floor(xy[:, :2] / apart).astype(np.int64)
    chosen = np.sort(np.unique(squares[:, 0] * 2**32 + squares[:, 1], return_index=True)[1])
    return xy[chosen[:: -(-len(chosen) // most) or 1]]
