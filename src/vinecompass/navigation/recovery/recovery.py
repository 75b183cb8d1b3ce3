"""A recovery: what the robot does for a while when it cannot go on."""

from __future__ import annotations

from abc import ABC, abstractmethod
from typing import ClassVar

from vinecompass.motion import Command
from vinecompass.navigation.mission.stops import StopQueue
from vinecompass.navigation.sensing.senses import Senses
from vinecompass.navigation.sensing.situation import Situation
from vinecompass.robot import Robot
from vinecompass.settings import RecoverySettings

__all__ = ["Recovery"]


class Recovery(ABC):
    """One recovery at work. One of your own is a subclass with a name, what it is good for, its time, and
    `next_command`.

    Parameters
    ----------
    reason : str
        Why it was begun.
    now : Situation
        When and where.
    robot : Robot
        With the margin about its body that is to stay free.
    settings : RecoverySettings, optional

    Attributes
    ----------
    starts_over : bool
        Whether the order of recoveries begins anew after it.
    """

    name: ClassVar[str]
    effect: ClassVar[str]
    """What it is good for."""
    seconds: float
    """After how long it is over at the latest."""

    def __init__(self, reason: str, now: Situation, robot: Robot, settings: RecoverySettings | None = None) -> None:
        self.reason = reason
        self.starts_over = False
        self._robot = robot
        self._settings = settings or RecoverySettings()
        self._began = now.t
        self._from = now.pose

    def __str__(self) -> str:
        return f"{self.name}, because {self.reason}"

    def begin(self, senses: Senses, stops: StopQueue) -> None:  # noqa: B027
        """Do at once what is to be done first; nothing, if not said otherwise."""

    def step(self, now: Situation) -> Command | None:
        """Return the command that is wanted now, or None when it is over."""
        return None if now.t - self._began >= self.seconds else self.next_command(now)

    @abstractmethod
    def next_command(self, now: Situation) -> Command | None:
        """Do as `step`, while there is time."""

    def _turning(self) -> Command:
        return Command(turn_rate=min(self._settings.turn_rate, self._robot.drive.top_turn_rate))
