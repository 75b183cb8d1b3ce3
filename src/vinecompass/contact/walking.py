"""A person on foot: a disc that moves."""

from __future__ import annotations

from collections.abc import Iterable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError

__all__ = ["PERSON_RADIUS", "Walking"]

PERSON_RADIUS = 0.25
"""Metres: a standing adult's half width, arms at rest."""
STROLL = 0.2
"""m/s below which a person stands, and has no side."""


@checked
@dataclass(frozen=True)
class Walking:
    """A person on foot, in the site frame.

    Parameters
    ----------
    x, y : float
        Metres.
    velocity_x, velocity_y : float
        m/s.
    radius : float
        Of the disc that the person takes up, m.
    name : str
        Which person of whoever tracks them it is; without one, people are told apart by their order.

    Raises
    ------
    InputError
        A number is not finite, or the radius is below 0.
    """

    x: float
    y: float
    velocity_x: float = 0.0
    velocity_y: float = 0.0
    radius: float = PERSON_RADIUS
    name: str = ""

    def __post_init__(self) -> None:
        if self.radius < 0.0:
            raise InputError("has no such size", key="radius", value=self.radius, expected="metres, 0 or more")

    @classmethod
    def of_rows(cls, rows: NDArray[np.float64]) -> list[Walking]:
        """Return the people of rows ``(P, 5)``: x, y, radius, m, and velocity, m/s."""
        return [cls(x, y, velocity_x, velocity_y, radius) for x, y, radius, velocity_x, velocity_y in rows.tolist()]

    @staticmethod
    def rows(people: Iterable[Walking]) -> NDArray[np.float64]:
        """Return people as rows ``(P, 5)``, the one shape that kernels and records take: x, y, radius, velocity."""
        found = [(each.x, each.y, each.radius, each.velocity_x, each.velocity_y) for each in people]
        return np.array(found, dtype=float).reshape(-1, 5)

    @property
    def walks(self) -> bool:
        """Whether the person is on the way, and not just shifting."""
        return bool(np.hypot(self.velocity_x, self.velocity_y) > STROLL)

    def walks_across(self, heading: float) -> bool:
        """Tell whether the person walks, and more across a heading, radians, than along it."""
        along = np.cos(np.arctan2(self.velocity_y, self.velocity_x) - heading)
        return self.walks and bool(along**2 < 0.5)

    def __str__(self) -> str:
        return f"person at {self.x:.2f}, {self.y:.2f} walking at {np.hypot(self.velocity_x, self.velocity_y):.1f} m/s"
