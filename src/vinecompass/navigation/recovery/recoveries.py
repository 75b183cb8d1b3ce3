"""Recoveries: what the robot does, in a settable order, when it cannot go on, before it gives a stop up."""

from __future__ import annotations

from collections.abc import Mapping, Sequence

import numpy as np

from vinecompass.costs import body_touches, touches_on_the_way
from vinecompass.errors import InputError
from vinecompass.geometry import arc, compose, turn_on_the_spot, wrap_heading
from vinecompass.motion import Command, kind_of
from vinecompass.navigation.mission.stops import StopQueue
from vinecompass.navigation.recovery.find_myself import FindMyself
from vinecompass.navigation.recovery.recovery import Recovery
from vinecompass.navigation.sensing.senses import Senses
from vinecompass.navigation.sensing.situation import Situation
from vinecompass.robot import Robot
from vinecompass.settings import RecoverySettings

__all__ = ["RECOVERIES", "RecoveryOrder", "Wait"]

NEXT_TURN = 0.5
"""Radians of the next bit of a turn that must be free."""
NEXT_WAY = 0.25
"""Metres of the next bit of the way out that must be free."""


class Wait(Recovery):
    """Stand and wait."""

    name = "wait"
    effect = "people and carts move on"

    def __init__(self, reason: str, now: Situation, robot: Robot, settings: RecoverySettings | None = None) -> None:
        super().__init__(reason, now, robot, settings)
        self.seconds = self._settings.wait

    def next_command(self, now: Situation) -> Command | None:
        """Stand."""
        return Command()


class LookAround(Recovery):
    """Turn round once on the spot, while there is room to."""

    name = "look around"
    effect = "all floor about the robot is seen again"

    def __init__(self, reason: str, now: Situation, robot: Robot, settings: RecoverySettings | None = None) -> None:
        super().__init__(reason, now, robot, settings)
        self.seconds = 2.0 * np.pi / self._turning().turn_rate + 2.0
        self._heading = float(now.pose[2])
        self._turned = 0.0

    def next_command(self, now: Situation) -> Command | None:
        """Turn on, until once round or something is in the way."""
        self._turned += abs(wrap_heading(float(now.pose[2]) - self._heading))
        self._heading = float(now.pose[2])
        turn = turn_on_the_spot(now.pose, NEXT_TURN, 0.25 * NEXT_TURN)
        blocked = np.any(body_touches(now.floor, self._robot, turn)[:, 0] >= 0)
        return None if self._turned >= 2.0 * np.pi or blocked else self._turning()


class BackOut(Recovery):
    """Go straight back, or ahead where only that is free and seen, until the body has room to turn.

    So a robot that was backing into an aisle that it has not looked into comes out again, and can look.
    """

    name = "back out"
    effect = "the body gets room to turn"

    def __init__(self, reason: str, now: Situation, robot: Robot, settings: RecoverySettings | None = None) -> None:
        super().__init__(reason, now, robot, settings)
        drive = robot.drive
        wanted = self._settings.back_speed
        self._speeds = [-min(wanted, drive.reverse_speed), min(wanted, drive.top_speed)]
        slowest = min(abs(speed) for speed in self._speeds if speed)
        self.seconds = self._settings.longest_back_way / slowest + 1.0

    def next_command(self, now: Situation) -> Command | None:
        """Back, or go ahead, bit by bit, as long as the next bit is free."""
        gone = float(np.hypot(*(now.pose[:2] - self._from[:2])))
        if gone >= self._settings.longest_back_way or (gone >= self._settings.back_way and self._may_turn(now)):
            return None
        for speed in self._speeds:
            if speed == 0.0 or now.unseen(np.array([speed, 0.0, 0.0]), NEXT_WAY / abs(speed)):
                continue
            way = compose(now.pose, arc([np.sign(speed), 0.0, 0.0], np.linspace(0.0, NEXT_WAY, 6)))
            if not touches_on_the_way(now.floor, self._robot, way):
                self._speeds = [speed]
                return Command(speed)
        return None

    def _may_turn(self, now: Situation) -> bool:
        """Tell whether there is room for a whole turn on the spot; what cannot goes no farther for it."""
        if not kind_of(self._robot.drive).turns_on_the_spot:
            return True
        whole = turn_on_the_spot(now.pose, 2.0 * np.pi, 0.25 * NEXT_TURN)
        return not touches_on_the_way(now.floor, self._robot, whole)


class ForgetObstacles(Recovery):
    """Open at once what was closed by something seen."""

    name = "forget obstacles"
    effect = "what was seen before and is gone no longer closes floor"
    seconds = 0.5

    def begin(self, senses: Senses, stops: StopQueue) -> None:
        """Forget everything seen."""
        senses.costs.forget()

    def next_command(self, now: Situation) -> Command | None:
        """Stand."""
        return Command()


class TakeAnotherStop(Recovery):
    """Put this stop off until after the next one, once."""

    name = "take another stop"
    effect = "this stop is tried again after the next one"
    seconds = 0.0

    def begin(self, senses: Senses, stops: StopQueue) -> None:
        """Put the stop off."""
        self.starts_over = stops.put_off()

    def next_command(self, now: Situation) -> Command | None:
        """Go on at once: there is another stop, or none."""
        return None


RECOVERIES: dict[str, type[Recovery]] = {
    kind.name: kind for kind in (Wait, LookAround, BackOut, ForgetObstacles, FindMyself, TakeAnotherStop)
}
"""Every recovery that is known, by its name in the settings."""


class RecoveryOrder:
    """Which recovery comes next.

    Parameters
    ----------
    names : sequence of str
        In the order in which they are tried.
    known : mapping of str to type of Recovery

    Raises
    ------
    InputError
        There is none of a name.
    """

    def __init__(self, names: Sequence[str], known: Mapping[str, type[Recovery]]) -> None:
        for name in names:
            if name not in known:
                raise InputError(
                    "is no recovery known here",
                    key="navigation.recovery",
                    value=name,
                    expected=f"of {', '.join(known)}",
                )
        self._kinds = [known[name] for name in names]
        self._tried = 0

    def next(self) -> type[Recovery] | None:
        """Return the next one, or None when all were tried."""
        if self._tried >= len(self._kinds):
            return None
        self._tried += 1
        return self._kinds[self._tried - 1]

    def restart(self) -> None:
        """Begin with the first one again."""
        self._tried = 0
