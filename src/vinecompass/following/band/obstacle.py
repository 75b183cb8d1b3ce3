"""Obstacles as shapes: points, lines and polygons, standing or moving."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import Walking
from vinecompass.errors import InputError

__all__ = ["Obstacle"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Obstacle:
    """Something that the body must keep clear of.

    Parameters
    ----------
    points : array_like, (N, 2)
        One point, the corners of a line, or those of a polygon, in the site frame, m.
    closed : bool
        Whether the last corner is joined to the first: a polygon.
    radius : float
        How far it reaches about its points and lines, m: a person is a point with a radius.
    velocity : (x, y)
        m/s, in the site frame.

    Raises
    ------
    InputError
        There is no point, or a number is not finite.
    """

    points: ArrayLike
    closed: bool = False
    radius: float = 0.0
    velocity: tuple[float, float] = (0.0, 0.0)

    def __post_init__(self) -> None:
        corners = np.atleast_2d(np.asarray(self.points, dtype=float))
        if corners.size == 0 or corners.shape[1] != 2 or not np.all(np.isfinite(corners)):
            raise InputError("is nowhere", key="obstacle", value=self.points, expected="x, y in metres, all finite")
        if not np.all(np.isfinite([self.radius, *self.velocity])) or self.radius < 0.0:
            raise InputError("is no obstacle", key="obstacle", value=(self.radius, self.velocity), expected="m and m/s")
        object.__setattr__(self, "points", corners)

    @classmethod
    def of_person(cls, person: Walking, space: float) -> Obstacle:
        """Return a person as a moving disc, with some space about it, m."""
        velocity = (person.velocity_x, person.velocity_y)
        return cls([[person.x, person.y]], radius=person.radius + space, velocity=velocity)

    @property
    def segments(self) -> FloatArray:
        """Its lines ``(S, 7)``: both ends, velocity, radius; a point is a line of no length."""
        corners = np.asarray(self.points, dtype=float)
        ends = np.vstack([corners[1:], corners[:1]]) if self.closed or len(corners) == 1 else corners[1:]
        starts = corners if self.closed or len(corners) == 1 else corners[:-1]
        rest = np.tile([*self.velocity, self.radius], (len(starts), 1))
        return np.hstack([starts, ends, rest])
