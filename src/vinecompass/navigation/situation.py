"""What a navigator knows in one step, handed down from stage to stage."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.contact import Walking
from vinecompass.costs import CostMap
from vinecompass.localization import Estimate
from vinecompass.motion import Command

__all__ = ["Situation"]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True)
class Situation:
    """A moment in the loop.

    Parameters
    ----------
    t : float
        Now, s.
    period : float
        Of the next command, s.
    pose : array, (3,)
        Where the robot believes to be, in the site frame.
    estimate : Estimate
        At the last scan's stamp.
    floor : CostMap
        As priced now.
    people : sequence of Walking
    people_near : bool
        Whether somebody is near who does not just walk across: plans are soon out of date then.
    points : array, (N, 2)
        What the scanner sees, and what it saw and is out of sight now, in the body frame, m.
    room_behind : float
        Metres of floor behind that it has seen.
    command : Command
        In force.
    measured : array, (3,)
        The body's velocity by the odometry.
    """

    t: float
    period: float
    pose: FloatArray
    estimate: Estimate
    floor: CostMap
    people: Sequence[Walking]
    people_near: bool
    points: FloatArray
    room_behind: float
    command: Command
    measured: FloatArray

    @property
    def lost(self) -> bool:
        """Whether it looks for where it is."""
        return self.estimate.state in ("searching", "lost")
