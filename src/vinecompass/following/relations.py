"""How a robot and a person move relative to each other, in words instead of numbers."""

from __future__ import annotations

from dataclasses import dataclass
from math import hypot, radians, tan
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs import Walking

__all__ = ["Approach", "Relation", "Side", "approaches", "relate", "sides"]

Approach = Literal["approaching", "steady", "receding"]
Side = Literal["left", "along", "right"]
STANDING = 0.1
"""m/s below which a speed along the line between the two counts as none."""
ALONG = tan(radians(8.0))
"""Slope off the line between the two within which a motion counts as along it."""


@dataclass(frozen=True)
class Relation:
    """Robot and person, each by how it moves along the line to the other, and to which side of it.

    Parameters
    ----------
    robot, person : {"approaching", "steady", "receding"}
    robot_side, person_side : {"left", "along", "right"}
        As each of them sees it, looking at the other.

    Notes
    -----
    The double-cross form of the qualitative trajectory calculus (Van de Weghe, 2004), which was proposed for robots
    that meet people by Hanheide, Peters and Bellotto (2012).
    """

    robot: Approach
    person: Approach
    robot_side: Side
    person_side: Side

    def __str__(self) -> str:
        return f"robot {self.robot} {self.robot_side}, person {self.person} {self.person_side}"


def relate(pose: ArrayLike, velocity: ArrayLike, person: Walking) -> Relation:
    """Return the relation of a robot at a pose ``(3,)`` that moves with `velocity` ``(2,)``, site frame, to a person.

    Examples
    --------
    >>> str(relate([0.0, 0.0, 0.0], [0.8, 0.0], Walking(3.0, 0.0, -1.0, 0.0)))
    'robot approaching along, person approaching along'
    >>> str(relate([0.0, 0.0, 0.0], [0.8, 0.0], Walking(3.0, 1.0, 0.0, -1.0)))
    'robot approaching right, person approaching left'
    """
    x, y = (float(value) for value in np.asarray(pose, dtype=float)[:2])
    line_x, line_y = person.x - x, person.y - y
    own_x, own_y = (float(value) for value in np.asarray(velocity, dtype=float))
    return Relation(
        _approach(own_x, own_y, line_x, line_y), _approach(person.velocity_x, person.velocity_y, -line_x, -line_y),
        _side(own_x, own_y, line_x, line_y), _side(person.velocity_x, person.velocity_y, -line_x, -line_y),
    )  # fmt: skip


def approaches(velocities: NDArray[np.float64], line: NDArray[np.float64]) -> list[Approach]:
    """Return for velocities ``(K, 2)`` how each moves along a line ``(2,)`` to another."""
    x, y = line.tolist()
    return [_approach(vx, vy, x, y) for vx, vy in velocities.tolist()]


def sides(velocities: NDArray[np.float64], line: NDArray[np.float64]) -> list[Side]:
    """Return for velocities ``(K, 2)`` to which side of a line ``(2,)`` to another each moves."""
    x, y = line.tolist()
    return [_side(vx, vy, x, y) for vx, vy in velocities.tolist()]


def _approach(vx: float, vy: float, x: float, y: float) -> Approach:
    along = (vx * x + vy * y) / max(hypot(x, y), 1e-9)
    return "approaching" if along > STANDING else "receding" if along < -STANDING else "steady"


def _side(vx: float, vy: float, x: float, y: float) -> Side:
    across, along = x * vy - y * vx, abs(x * vx + y * vy)
    if hypot(vx, vy) < STANDING or abs(across) <= ALONG * along:
        return "along"
    return "left" if across > 0.0 else "right"
