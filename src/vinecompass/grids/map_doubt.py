"""How true a map is: how far its places may lie from where it has them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.comparing import ByValue
from vinecompass.geometry import compose_covariances, inverse, transform_points

__all__ = ["MapDoubt"]

FloatArray = NDArray[np.float64]
PATCH = 2.0
"""Side of the squares of floor, m, for each of which one place stands."""


@dataclass(frozen=True, eq=False)
class MapDoubt(ByValue):
    """The doubt of a map that was made on a drive: the covariance of the robot's pose at places along it.

    A robot that is localized in the map is at least as unsure of where it is in the site as the map is of the place.

    Parameters
    ----------
    places : array, (N, 2)
        In the site frame, m; at least one.
    covariances : array, (N, 3, 3)
        Of x, y and heading there, beside where the drive began, m2, m rad and rad2.

    Examples
    --------
    >>> doubt = MapDoubt(np.array([[0.0, 0.0], [9.0, 0.0]]), np.array([np.zeros((3, 3)), 0.01 * np.eye(3)]))
    >>> doubt.at([8.0, 1.0])[0, 0].tolist()
    0.01
    """

    places: FloatArray
    covariances: FloatArray

    @classmethod
    def along(cls, poses: FloatArray, covariances: FloatArray) -> MapDoubt:
        """Return the doubt of a map made along poses ``(N, 3)`` with covariances ``(N, 3, 3)``, thinned.

        Where the drive came by more than once, the surest time stands: the others were laid over it.
        """
        surest = np.argsort(covariances[:, 0, 0] + covariances[:, 1, 1], kind="stable")
        _, first = np.unique(np.floor(poses[surest, :2] / PATCH), axis=0, return_index=True)
        kept = np.sort(surest[first])
        return cls(poses[kept, :2], covariances[kept])

    def at(self, point: ArrayLike) -> FloatArray:
        """Return the covariance ``(3, 3)`` at the place nearest to a point ``(2,)``."""
        x, y = np.asarray(point, dtype=float).tolist()
        away = (self.places[:, 0] - x) ** 2 + (self.places[:, 1] - y) ** 2
        return np.asarray(self.covariances[np.argmin(away)])

    def seen_from(self, frame: ArrayLike) -> MapDoubt:
        """Return the same doubt in a frame ``(3,)`` that is given in this one."""
        back, sure = inverse(frame), np.zeros((3, 3))
        covariances = compose_covariances(back, np.zeros(3), sure, self.covariances)
        return MapDoubt(transform_points(back, self.places), covariances)
