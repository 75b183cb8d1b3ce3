"""People: an egg of price about each, blunt behind and drawn out ahead of their motion."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.contact import Walking
from vinecompass.costs.kernels import draw_egg
from vinecompass.costs.passing import Side
from vinecompass.geometry import relative
from vinecompass.grids import Grid
from vinecompass.robot import Robot

__all__ = ["PeopleLayer"]

SPREADS_CHARGED = 3.0
"""Spreads beyond which nothing is charged any more (less than a hundredth of the price at the person)."""


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
    wide_sides : sequence of {"left", "right"}
        Of each person, the side to which the egg is wider if they walk: plans pass on the other. Empty: none is wider.
    widening : float
        How many times wider.

    Notes
    -----
    A Gaussian whose spread along the motion is longer ahead than behind, and wider on the side on which people pass
    each other (Kirby, Simmons and Forlizzi, 2009).
    """

    people: Sequence[Walking]
    price: float
    spread: float
    lookahead: float
    wide_sides: Sequence[Side] = ()
    widening: float = 1.0
    name: str = "people"

    def charge(self, grid: Grid, robot: Robot) -> NDArray[np.float32]:
        """Charge each cell for its dearest person."""
        factors = np.ones(grid.shape, np.float32)
        for window, egg in self.eggs(grid):
            np.maximum(factors[window], egg, out=factors[window])
        return factors

    def eggs(self, grid: Grid) -> Iterator[tuple[tuple[slice, slice], NDArray[np.float32]]]:
        """Yield for each person the window of cells about the egg, and what it charges there."""
        for number, person in enumerate(self.people):
            drawn_out = self._drawn_out(person)
            # From behind the person to the egg's far end.
            middle = 0.5 * SPREADS_CHARGED * self.lookahead * np.array([person.velocity_x, person.velocity_y])
            reach = SPREADS_CHARGED * (self.spread * self._widening(person) + 0.5 * drawn_out)
            low, high = grid.window_about([person.x + middle[0], person.y + middle[1]], reach)
            if np.any(low >= high):
                continue
            rows, columns = np.arange(low[0], high[0]) + 0.5, np.arange(low[1], high[1]) + 0.5
            here = relative([person.x, person.y, 0.0], grid.frame)
            heading = float(np.arctan2(person.velocity_y, person.velocity_x)) - grid.turn
            egg = self._egg(number, heading, grid.cell_size * columns - here[0], grid.cell_size * rows - here[1])
            yield (slice(int(low[0]), int(high[0])), slice(int(low[1]), int(high[1]))), egg

    def why(self, x: float, y: float) -> str:
        """Name the person who is charged for there."""
        eggs = [
            float(
                self._egg(
                    number,
                    float(np.arctan2(each.velocity_y, each.velocity_x)),
                    np.array([x - each.x]),
                    np.array([y - each.y]),
                )[0, 0]
            )
            for number, each in enumerate(self.people)
        ]
        return str(self.people[int(np.argmax(eggs))]) if eggs and max(eggs) > 1.0 else "nobody near"

    def _drawn_out(self, person: Walking) -> float:
        return self.lookahead * float(np.hypot(person.velocity_x, person.velocity_y))

    def _widening(self, person: Walking) -> float:
        """Return how many times wider the egg is on its wide side: a standing person has none."""
        return self.widening if self.wide_sides and person.walks else 1.0

    def _egg(self, number: int, heading: float, x: NDArray[np.float64], y: NDArray[np.float64]) -> NDArray[np.float32]:
        """Return what is charged ``(rows, columns)`` `y` and `x` away from one of the people, seen along a heading."""
        person = self.people[number]
        drawn_out, wide = self._drawn_out(person), self.spread * self._widening(person)
        egg = np.empty((len(y), len(x)), np.float32)
        to_left = bool(self.wide_sides) and self.wide_sides[number] == "left"
        left, right = (wide, self.spread) if to_left else (self.spread, wide)
        draw_egg(
            x, y, heading, (self.spread + drawn_out, self.spread, left, right), self.price - 1.0, SPREADS_CHARGED, egg
        )
        return egg
