"""People: an egg of price about each, blunt behind and drawn out ahead of their motion."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.grids import Grid
from vinecompass.robot import Robot

__all__ = ["PeopleLayer", "Walking"]

FARTHEST = 3.0
"""Spreads beyond which nothing is charged any more (less than a hundredth of the price at the person)."""


@dataclass(frozen=True)
class Walking:
    """A person on foot, in the site frame: position in m, velocity in m/s."""

    x: float
    y: float
    velocity_x: float = 0.0
    velocity_y: float = 0.0

    def __post_init__(self) -> None:
        if not np.all(np.isfinite([self.x, self.y, self.velocity_x, self.velocity_y])):
            raise InputError("is nowhere", key="person", value=(self.x, self.y), expected="metres and m/s, all finite")

    def __str__(self) -> str:
        return f"person at {self.x:.2f}, {self.y:.2f} walking at {np.hypot(self.velocity_x, self.velocity_y):.1f} m/s"


@dataclass(frozen=True)
class PeopleLayer:
    """Charges floor about people.

    Parameters
    ----------
    people : sequence of Walking
    price : float
        The factor where a person is.
    spread : float
        Standard deviation of the price beside and behind a person, m.
    lookahead : float
        The egg is drawn out ahead by the way that the person walks in this time, s.

    Notes
    -----
    A Gaussian whose spread along the motion is longer ahead than behind (Kirby, Simmons and Forlizzi, 2009).
    """

    people: Sequence[Walking]
    price: float
    spread: float
    lookahead: float
    name: str = "people"

    def charge(self, grid: Grid, robot: Robot) -> NDArray[np.float32]:
        """Charge each cell for its dearest person."""
        factors = np.ones(grid.shape, np.float32)
        for person in self.people:
            reach = FARTHEST * (self.spread + self._drawn_out(person))
            low, high = grid.window_about([person.x, person.y], reach)
            if np.any(low >= high):
                continue
            rows, columns = np.mgrid[low[0] : high[0], low[1] : high[1]]
            points = grid.points_of(np.stack([rows.ravel(), columns.ravel()], axis=-1))
            window = factors[low[0] : high[0], low[1] : high[1]]
            np.maximum(window, self._egg(person, points).reshape(window.shape), out=window)
        return factors

    def why(self, x: float, y: float) -> str:
        """Name the person who is charged for there."""
        eggs = [float(self._egg(person, np.array([[x, y]]))[0]) for person in self.people]
        return str(self.people[int(np.argmax(eggs))]) if eggs and max(eggs) > 1.0 else "nobody near"

    def _drawn_out(self, person: Walking) -> float:
        return self.lookahead * float(np.hypot(person.velocity_x, person.velocity_y))

    def _egg(self, person: Walking, points: NDArray[np.float64]) -> NDArray[np.float32]:
        away = points - (person.x, person.y)
        heading = np.arctan2(person.velocity_y, person.velocity_x)
        along = np.cos(heading) * away[:, 0] + np.sin(heading) * away[:, 1]
        across = np.cos(heading) * away[:, 1] - np.sin(heading) * away[:, 0]
        spread_along = np.where(along > 0.0, self.spread + self._drawn_out(person), self.spread)
        exponent = 0.5 * ((along / spread_along) ** 2 + (across / self.spread) ** 2)
        egg = np.where(exponent < 0.5 * FARTHEST**2, (self.price - 1.0) * np.exp(-exponent), 0.0)
        return (1.0 + egg).astype(np.float32)
