"""What a navigator knows in one step, handed down from stage to stage."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray

from vinecompass.contact import Walking
from vinecompass.costs import CostMap
from vinecompass.localization import Estimate, TellingDrive
from vinecompass.motion import Command

__all__ = ["Situation"]

FloatArray = NDArray[np.float64]
STANDING = 0.02, 0.04
"""m/s and rad/s below which a body stands, as far as its odometry can tell."""


@dataclass(frozen=True)
class Situation:
    """A moment in the loop.

    Parameters
    ----------
    t : float
        Now, s.
    elapsed : float
        Since the step before, s: what a command may change by, the drive must manage in that time.
    pose : array, (3,)
        Where the robot believes to be, in the site frame.
    ahead : array, (3,)
        Where it will be when a command given now takes hold.
    estimate : Estimate
        At the last scan's stamp.
    floor : CostMap
        As priced now.
    people : sequence of Walking
    people_near : bool
        Whether somebody is near who does not just walk across: plans are soon out of date then.
    points : array, (N, 2)
        What the scanner sees, and what it saw and is out of sight now, in the body frame as it will be `ahead`, m.
    unseen : callable
        Takes a velocity ``(3,)`` and seconds, and tells whether the body, keeping it from `ahead` on, comes over floor
        that it has not seen.
    hidden : callable
        Returns points ``(N, 2)`` all over the floor nearby that it has not seen, in the site frame.
    telling_drive : callable
        Returns a straight drive after which the places where it may be would look different; None if none is known.
    command : Command
        In force.
    measured : array, (3,)
        The body's velocity by the odometry.
    """

    t: float
    elapsed: float
    pose: FloatArray
    ahead: FloatArray
    estimate: Estimate
    floor: CostMap
    people: Sequence[Walking]
    people_near: bool
    points: FloatArray
    unseen: Callable[[FloatArray, float], bool]
    hidden: Callable[[], FloatArray]
    telling_drive: Callable[[], TellingDrive | None]
    command: Command
    measured: FloatArray

    @cached_property
    def why_lost(self) -> str:
        """Why it looks for where it is; empty if it does not."""
        if self.estimate.state in ("searching", "lost"):
            return self.estimate.reason
        grid = self.floor.grid
        on_map = bool(grid.contains(grid.cells_at(self.pose[None, :2]))[0])
        return "" if on_map else f"it would be off the map, at {self.pose[0]:.1f}, {self.pose[1]:.1f}"

    @property
    def lost(self) -> bool:
        """Whether it looks for where it is."""
        return bool(self.why_lost)

    @property
    def standing(self) -> bool:
        """Whether the body stands, by the odometry, and is told to."""
        speed, sideways, turn_rate = np.abs(self.measured).tolist()
        return self.command.standing and max(speed, sideways) < STANDING[0] and turn_rate < STANDING[1]
