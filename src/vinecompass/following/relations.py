"""How a robot and a person move relative to each other, in words instead of numbers."""

from __future__ import annotations

from dataclasses import dataclass
from math import radians, tan
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs import Walking

__all__ = ["Approach", "Relation", "Side", "approach", "relate", "side"]

Approach = Literal["approaching", "steady", "receding"]
Side = Literal["left", "along", "right"]
APPROACHES: dict[int, Approach] = {1: "approaching", 0: "steady", -1: "receding"}
SIDES: dict[int, Side] = {1: "left", 0: "along", -1: "right"}
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
    line = np.array([person.x, person.y]) - np.asarray(pose, dtype=float)[:2]
    own = np.asarray(velocity, dtype=float)
    # A person who walks along the line the other way round approaches as the robot does.
    moving = np.array([(own[0], own[1]), (-person.velocity_x, -person.velocity_y)])
    robot, other = approach(moving, line).tolist()
    robot_side, other_side = side(moving, line).tolist()
    return Relation(APPROACHES[robot], APPROACHES[other], SIDES[robot_side], SIDES[other_side])


def approach(velocities: NDArray[np.float64], line: NDArray[np.float64]) -> NDArray[np.int64]:
    """Return how velocities ``(..., 2)`` go along a line ``(2,)`` to another: 1 approaching, 0 steady, -1 receding."""
    along = velocities @ line / max(float(np.hypot(line[0], line[1])), 1e-9)
    return np.where(np.abs(along) > STANDING, np.sign(along), 0.0).astype(np.int64)


def side(velocities: NDArray[np.float64], line: NDArray[np.float64]) -> NDArray[np.int64]:
    """Return to which side of a line ``(2,)`` velocities ``(..., 2)`` move: 1 left, 0 along it, -1 right."""
    across, along = velocities @ np.array([-line[1], line[0]]), velocities @ line
    moves = np.sum(velocities * velocities, axis=-1) >= STANDING**2
    return np.where(moves & (np.abs(across) > ALONG * np.abs(along)), np.sign(across), 0.0).astype(np.int64)
