"""A course: a plan being followed, leg by leg, each leg driven forward or in reverse."""

from __future__ import annotations

from itertools import pairwise

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.errors import InputError
from vinecompass.geometry import distance_along, polyline_headings, wrap_angle

__all__ = ["Course"]

FloatArray = NDArray[np.float64]
LOOKED_FOR_WITHIN = 1.0
"""Metres ahead on the course within which the robot is looked for, so that it never skips a stretch."""
SAME_PLACE = 1e-4
"""Metres within which two poses stand on one spot."""
SHARPEST = np.radians(120.0)
"""A corner that turns farther cannot be driven round: the robot stops there and turns on the spot."""


class Course:
    """Where along a plan the robot is.

    Parameters
    ----------
    poses : array_like, (N, 3)
        The plan in the site frame, m and radians. On a straight line each heading points along it, or against it
        where it is driven in reverse; the first heading may be the robot's and the last is the one to end with.

    Attributes
    ----------
    nearest : int
        The pose of the plan that the robot is at; it only grows.

    Raises
    ------
    InputError
        There are fewer than two poses, or one is not finite.
    """

    def __init__(self, poses: ArrayLike) -> None:
        self.poses = np.atleast_2d(np.asarray(poses, dtype=float))
        if self.poses.size == 0 or self.poses.shape[1] != 3 or len(self.poses) < 2:
            said = "has no pose" if self.poses.size == 0 else f"has shape {self.poses.shape}"
            raise InputError(said, key="poses", expected="two poses or more, (N, 3): where it begins and where it ends")
        if not np.all(np.isfinite(self.poses)):
            row = int(np.argmin(np.isfinite(self.poses).all(axis=1)))
            raise InputError(
                f"pose {row} is not finite", key="poses", value=self.poses[row].tolist(), expected="m, radians"
            )
        # Of a turn on the spot only the last pose is kept: the heading that it is left with.
        kept = np.append(np.hypot(*np.diff(self.poses[:, :2], axis=0).T) > SAME_PLACE, True)
        # A plan that is nothing but such a turn still has a beginning and an end.
        kept[0] |= np.count_nonzero(kept) < 2
        self.poses = self.poses[kept]
        self.along = distance_along(self.poses)
        directions = _directions(self.poses)
        changes = (np.flatnonzero((np.diff(directions) != 0) | (_corners(self.poses) > SHARPEST)) + 1).tolist()
        self._legs = [(a, b, int(directions[a])) for a, b in pairwise([0, *changes, len(directions)])]
        self._leg = 0
        self.nearest = 0

    @property
    def direction(self) -> int:
        """1 where the leg is driven forward, -1 in reverse."""
        return self._legs[self._leg][2]

    @property
    def last_leg(self) -> bool:
        """Whether the leg ends where the plan does."""
        return self._leg == len(self._legs) - 1

    @property
    def leg_end(self) -> FloatArray:
        """The pose ``(3,)`` at which the leg ends."""
        return self.poses[self.end]

    @property
    def left(self) -> float:
        """Metres of the leg that are left."""
        return float(self.along[self.end] - self.along[self.nearest])

    @property
    def to_go(self) -> float:
        """Metres of the plan that are left."""
        return float(self.along[-1] - self.along[self.nearest])

    @property
    def remaining(self) -> FloatArray:
        """The poses of the plan that are still ahead ``(M, 3)``."""
        return self.poses[self.nearest :]

    @property
    def leg(self) -> FloatArray:
        """The poses of the leg that are still ahead ``(M, 3)``."""
        return self.poses[self.nearest : self.end + 1]

    @property
    def end(self) -> int:
        """The pose of the plan at which the leg ends."""
        return self._legs[self._leg][1]

    def advance(self, pose: FloatArray) -> None:
        """Move to the nearest pose of the leg, never back, and never past a stretch not yet driven."""
        ahead = int(np.searchsorted(self.along, self.along[self.nearest] + LOOKED_FOR_WITHIN, side="right"))
        window = self.poses[self.nearest : min(max(ahead, self.nearest + 2), self.end + 1), :2]
        self.nearest += int(np.argmin(np.hypot(window[:, 0] - pose[0], window[:, 1] - pose[1])))

    def next_leg(self) -> None:
        """Go on with the leg after this one."""
        self.nearest = self.end
        self._leg += 1

    def ahead(self, reach: float) -> int:
        """Return the pose of the leg that lies so many metres ahead."""
        return min(int(np.searchsorted(self.along, self.along[self.nearest] + reach)), self.end)


def _corners(poses: FloatArray) -> FloatArray:
    """Return by how much the way turns at each pose between the ends ``(N - 2,)``, 0 to pi."""
    return np.asarray(np.abs(wrap_angle(np.diff(polyline_headings(poses)[:-1]))))


def _directions(poses: FloatArray) -> NDArray[np.int64]:
    """Return for each step between poses 1 forward or -1 in reverse, by the heading that is not an end's own."""
    if len(poses) < 3:
        return np.ones(len(poses) - 1, np.int64)
    steps = np.diff(poses[:, :2], axis=0)
    headings = np.concatenate([poses[1:2, 2], poses[1:-1, 2]])
    ahead = steps[:, 0] * np.cos(headings) + steps[:, 1] * np.sin(headings)
    return np.where(ahead < 0.0, -1, 1)
