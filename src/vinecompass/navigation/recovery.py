"""Recovery: what the robot does, in a settable order, when it cannot go on, before it gives a stop up."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs import CostMap, body_touches, touches_on_the_way
from vinecompass.geometry import arc, compose, turn_on_the_spot, wrap_heading
from vinecompass.robot import Command, Robot
from vinecompass.settings import RecoveryKind

__all__ = ["RECOVERIES", "Recovery"]

LOOK_RATE = 0.8
"""rad/s at which it looks around."""
BACK_SPEED = 0.2
"""m/s at which it backs out: what lies straight behind, a scanner in front cannot see."""


@dataclass(frozen=True)
class Limit:
    """What a kind of recovery is good for, and after how many seconds or metres it ends."""

    effect: str
    seconds: float
    metres: float = np.inf


RECOVERIES: dict[RecoveryKind, Limit] = {
    "wait": Limit("people and carts move on", 4.0),
    "look around": Limit("all floor about the robot is seen again", 2.0 * np.pi / LOOK_RATE + 2.0),
    "back out": Limit("the body gets room to turn", 6.0, 0.5),
    "forget obstacles": Limit("what was seen before and is gone no longer closes floor", 0.5),
    "find myself": Limit("localization starts over, from anywhere on the map", 25.0),
    "take another stop": Limit("this stop is tried again after the next one", 0.0),
}
"""Every kind of recovery, what it is good for, and its limit."""


class Recovery:
    """One recovery at work.

    Parameters
    ----------
    kind : RecoveryKind
    reason : str
        Why it was begun.
    t : float
        When, s.
    pose : array, (3,)
        Where, in the site frame.
    """

    def __init__(self, kind: RecoveryKind, reason: str, t: float, pose: NDArray[np.float64]) -> None:
        self.kind = kind
        self.reason = reason
        self._began = t
        self._from = pose
        self._heading = float(pose[2])
        self._turned = 0.0
        self._speed: float | None = None

    def __str__(self) -> str:
        return f"{self.kind}, because {self.reason}"

    def step(
        self, t: float, pose: NDArray[np.float64], floor: CostMap, robot: Robot, found: Callable[[], bool]
    ) -> Command | None:
        """Return the command that is wanted now, or None when it is over.

        Parameters
        ----------
        t : float
            Now, s.
        pose : array, (3,)
        floor : CostMap
        robot : Robot
            With the margin about its body that is to stay free.
        found : callable
            Tells whether the robot knows where it is.
        """
        limit = RECOVERIES[self.kind]
        if t - self._began >= limit.seconds:
            return None
        turning = Command(0.0, min(LOOK_RATE, robot.drive.top_turn_rate))
        if self.kind == "look around":
            self._turned += abs(wrap_heading(float(pose[2]) - self._heading))
            self._heading = float(pose[2])
            next_turn = body_touches(floor, robot, turn_on_the_spot(pose, 0.5, 0.125))[:, 0]
            return None if self._turned >= 2.0 * np.pi or np.any(next_turn >= 0) else turning
        if self.kind == "find myself":
            if found() and t - self._began > 1.0:
                return None
            return turning if robot.drive.kind != "car" else Command()
        if self.kind == "back out":
            return self._back_out(pose, floor, robot, limit.metres)
        return Command()

    def _back_out(self, pose: NDArray[np.float64], floor: CostMap, robot: Robot, metres: float) -> Command | None:
        """Go straight back, or ahead where only that is free, while the floor there is known to be free."""
        if float(np.hypot(*(pose[:2] - self._from[:2]))) >= metres:
            return None
        speeds = (-min(BACK_SPEED, robot.drive.reverse_speed), min(BACK_SPEED, robot.drive.top_speed))
        for speed in speeds if self._speed is None else (self._speed,):
            way = compose(pose, arc([np.sign(speed), 0.0, 0.0], np.linspace(0.0, 0.25, 6)))
            if speed != 0.0 and not touches_on_the_way(floor, robot, way):
                self._speed = speed
                return Command(speed)
        return None
