"""What a navigator sees and weighs at one moment, to be drawn."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.contact import Walking
from vinecompass.following import LocalPlan

__all__ = ["Scene"]


@dataclass(frozen=True)
class Scene:
    """A moment of a mission.

    Parameters
    ----------
    t : float
        Seconds.
    pose : array, (3,)
        Where the robot believes to be, in the site frame.
    plan : array, (M, 3)
        The global plan that is still ahead.
    local_plan : LocalPlan
        With all that was considered.
    obstacles : array, (N, 2)
        What is seen and not in the map, m.
    people : sequence of Walking
    """

    t: float
    pose: NDArray[np.float64]
    plan: NDArray[np.float64]
    local_plan: LocalPlan
    obstacles: NDArray[np.float64]
    people: Sequence[Walking]
