"""What a robot is told to do next."""

from __future__ import annotations

from dataclasses import KW_ONLY, dataclass

import numpy as np
from numpy.typing import NDArray

__all__ = ["Command"]


@dataclass(frozen=True)
class Command:
    """Wanted motion of the body, in the order of every velocity: ahead, to the left, turning.

    Parameters
    ----------
    speed : float
        Ahead, m/s; negative is backward.
    sideways : float
        To the left, m/s; only a drive that goes sideways has any. By its name only.
    turn_rate : float
        Counter-clockwise, rad/s. By its name only.

    Examples
    --------
    >>> Command(0.5, turn_rate=0.2).velocity.tolist()
    [0.5, 0.0, 0.2]
    """

    speed: float = 0.0
    _: KW_ONLY
    sideways: float = 0.0
    turn_rate: float = 0.0

    @property
    def velocity(self) -> NDArray[np.float64]:
        """Speed ahead and to the left, m/s, and turn rate, rad/s: ``(3,)``."""
        return np.array([self.speed, self.sideways, self.turn_rate], dtype=float)

    @property
    def standing(self) -> bool:
        """Whether it asks for no motion at all."""
        return self.speed == self.turn_rate == self.sideways == 0.0

    def scaled(self, share: float) -> Command:
        """Return a share of it: the same curve, slower."""
        return Command(self.speed * share, sideways=self.sideways * share, turn_rate=self.turn_rate * share)
