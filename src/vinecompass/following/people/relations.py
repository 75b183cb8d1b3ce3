"""How a robot and a person move relative to each other, in words instead of numbers."""

from __future__ import annotations

from dataclasses import dataclass
from math import hypot, radians, tan
from typing import Any, Literal

import numpy as np
from numpy.typing import ArrayLike

from vinecompass.contact import Walking
from vinecompass.settings import Approach

__all__ = ["Relation", "SideOfLine", "approach", "closest_approach", "relate", "side"]

SideOfLine = Literal["left", "along", "right"]
APPROACHES: dict[int, Approach] = {1: "approaching", 0: "steady", -1: "receding"}
SIDES: dict[int, SideOfLine] = {1: "left", 0: "along", -1: "right"}
NO_SPEED = 0.1
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
    robot_side: SideOfLine
    person_side: SideOfLine

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
    (x, y, _), (velocity_x, velocity_y) = np.asarray(pose, dtype=float).tolist(), np.asarray(velocity).tolist()
    line = person.x - x, person.y - y
    # A person who walks along the line the other way round approaches as the robot does.
    coming = -person.velocity_x, -person.velocity_y
    return Relation(
        APPROACHES[approach(velocity_x, velocity_y, line)],
        APPROACHES[approach(*coming, line)],
        SIDES[side(velocity_x, velocity_y, line)],
        SIDES[side(*coming, line)],
    )


def approach(x: Any, y: Any, line: tuple[float, float]) -> Any:
    """Return how a velocity goes along a line to another: 1 approaching, 0 steady, -1 receding; numbers or arrays."""
    along = (x * line[0] + y * line[1]) / max(hypot(*line), 1e-9)
    return 1 * (along > NO_SPEED) - 1 * (along < -NO_SPEED)


def side(x: Any, y: Any, line: tuple[float, float]) -> Any:
    """Return to which side of a line a velocity moves: 1 left, 0 along it, -1 right; numbers or arrays."""
    across, along = line[0] * y - line[1] * x, line[0] * x + line[1] * y
    slope = ALONG * abs(along)
    return (x * x + y * y >= NO_SPEED**2) * (1 * (across > slope) - 1 * (across < -slope))


def closest_approach(x: Any, y: Any, line: tuple[float, float], other: tuple[float, float], seconds: float) -> Any:
    """Return how near two come to each other within some seconds if both keep their velocities, m; numbers or arrays.

    One has the velocity `x`, `y`, the other, at the end of the line from the one to it, the velocity `other`.
    """
    away_x, away_y = other[0] - x, other[1] - y
    pace = np.maximum(away_x * away_x + away_y * away_y, 1e-9)
    when = np.clip(-(line[0] * away_x + line[1] * away_y) / pace, 0.0, seconds)
    return np.hypot(line[0] + when * away_x, line[1] + when * away_y)
