"""How a robot and a person move relative to each other, in words instead of numbers."""

from __future__ import annotations

from dataclasses import dataclass
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs import Walking

__all__ = ["Approach", "Relation", "Side", "approaches", "relate", "sides"]

Approach = Literal["approaching", "steady", "receding"]
Side = Literal["left", "along", "right"]
STANDING = 0.1
"""m/s below which a speed along the line between the two counts as none."""
ALONG = np.radians(8.0)
"""Radians off the line between the two within which a motion counts as along it."""


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
    place = np.array([person.x, person.y])
    line = place - np.asarray(pose, dtype=float)[:2]
    own, walk = np.asarray(velocity, dtype=float)[None], np.array([[person.velocity_x, person.velocity_y]])
    return Relation(
        approaches(own, line)[0], approaches(walk, -line)[0], sides(own, line)[0], sides(walk, -line)[0]
    )  # fmt: skip


def approaches(velocities: NDArray[np.float64], line: NDArray[np.float64]) -> list[Approach]:
    """Return for velocities ``(K, 2)`` how each moves along a line ``(2,)`` to another."""
    along = velocities @ line / max(float(np.hypot(*line)), 1e-9)
    return ["approaching" if v > STANDING else "receding" if v < -STANDING else "steady" for v in along.tolist()]


def sides(velocities: NDArray[np.float64], line: NDArray[np.float64]) -> list[Side]:
    """Return for velocities ``(K, 2)`` to which side of a line ``(2,)`` to another each moves."""
    angles = np.angle(np.exp(1j * (np.arctan2(velocities[:, 1], velocities[:, 0]) - np.arctan2(line[1], line[0]))))
    still = np.hypot(*velocities.T) < STANDING
    across = np.abs(angles) > np.pi / 2.0
    off = np.where(across, np.pi - np.abs(angles), np.abs(angles))
    return [
        "along" if slow or turn <= ALONG else "left" if angle > 0.0 else "right"
        for slow, turn, angle in zip(still.tolist(), off.tolist(), angles.tolist(), strict=True)
    ]  # fmt: skip
