"""Finding itself: the robot turns, and goes where it sees what tells one place from another, until it knows."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import wrap_heading
from vinecompass.motion import Command, kind_of
from vinecompass.navigation.mission.stops import StopQueue
from vinecompass.navigation.recovery.recovery import Recovery
from vinecompass.navigation.sensing.senses import Senses
from vinecompass.navigation.sensing.situation import Situation
from vinecompass.robot import Robot
from vinecompass.settings import RecoverySettings

__all__ = ["FindMyself", "freest_way"]

FloatArray = NDArray[np.float64]
NOT_BEFORE = 1.0
"""Seconds for which it looks at least before it believes that it has found itself."""
HELD_FOR = 1.5
"""Seconds of being held up after which it tries another way."""
HELD_SPEED, HELD_TURN_RATE = 0.03, 0.06
"""m/s and rad/s below which it counts as held up."""
PACE = 0.3
"""m/s at which it goes elsewhere."""
WAY = 4.0
"""Metres that it goes to see something new, where no drive is known that tells places apart."""
LEAST_WAY = 0.3
"""Metres of free way that are worth going."""
DIRECTIONS = np.radians(np.arange(-180.0, 180.0, 15.0))
TOWARDS = np.radians(5.0)
"""How near to a direction a turn must come."""


class FindMyself(Recovery):
    """Turn on the spot, then go where places that look alike would differ, or where there is room, and turn again.

    What cannot turn on the spot goes to and fro. It steers by what the scanner sees and the odometry alone: where it
    is on the map, it does not know.
    """

    name = "find myself"
    effect = "localization starts over, from anywhere on the map"
    seconds = 120.0

    def __init__(self, reason: str, now: Situation, robot: Robot, settings: RecoverySettings | None = None) -> None:
        super().__init__(reason, now, robot, settings)
        self._turns_on_the_spot = kind_of(robot.drive).turns_on_the_spot
        self._doing: Literal["turning round", "turning there", "going"] = "turning round"
        self._side = 1.0
        self._left = 2.0 * np.pi
        self._way = 0.0
        self._held = 0.0
        self._turns_held = 0

    def begin(self, senses: Senses, stops: StopQueue) -> None:
        """Start localization over; a robot that is lost already looks anywhere as it is."""
        senses.find_myself()

    def next_command(self, now: Situation) -> Command | None:
        """Look around until one place is left."""
        if now.estimate.settled and now.t - self._began > NOT_BEFORE:
            return None
        if not self._turns_on_the_spot:
            return self._to_and_fro(now)
        self._take_in(now)
        if self._doing == "going":
            return Command(min(PACE, self._robot.drive.top_speed))
        rate = self._turning().turn_rate
        return Command(turn_rate=self._side * (rate if self._doing == "turning round" else min(rate, self._left)))

    def _to_and_fro(self, now: Situation) -> Command:
        """Go straight ahead as far as there is room, then back: a car cannot turn on the spot."""
        self._held = 0.0 if abs(now.measured[0]) > HELD_SPEED else self._held + now.elapsed
        if self._held >= HELD_FOR:
            self._held = 0.0
            self._side = -self._side
        drive = self._robot.drive
        return Command(self._side * min(PACE, drive.top_speed if self._side > 0.0 else drive.reverse_speed))

    def _take_in(self, now: Situation) -> None:
        """Note what was done since the last step, and go on to what comes next."""
        speed, turn_rate = float(np.hypot(now.measured[0], now.measured[1])), float(now.measured[2])
        going = self._doing == "going"
        moves = speed > HELD_SPEED if going else abs(turn_rate) > HELD_TURN_RATE
        self._held = 0.0 if moves else self._held + now.elapsed
        if going:
            self._way -= speed * now.elapsed
        else:
            self._left -= self._side * turn_rate * now.elapsed
        if self._doing == "turning round" and (self._left <= 0.0 or self._held >= HELD_FOR):
            self._after_a_turn(now)
        elif self._doing == "turning there" and (self._left <= TOWARDS or self._held >= HELD_FOR):
            self._begin("going")
        elif going and (self._way <= 0.0 or self._held >= HELD_FOR):
            self._turn_round()

    def _after_a_turn(self, now: Situation) -> None:
        """Turn the other way about if something was in the way; else go to where more can be told."""
        if self._held >= HELD_FOR:
            self._turns_held += 1
            self._side = -self._side
            if self._turns_held % 2:
                self._turn_round()
                return
        telling = now.telling_drive()
        direction, way = freest_way(now.points, self._robot)
        if telling is not None:
            direction, way = telling.direction, telling.distance
        if way < LEAST_WAY:
            self._turn_round()
            return
        turn = wrap_heading(direction)
        self._way = way
        self._side = 1.0 if turn >= 0.0 else -1.0
        self._left = abs(turn)
        self._begin("turning there")

    def _turn_round(self) -> None:
        self._left = 2.0 * np.pi
        self._begin("turning round")

    def _begin(self, doing: Literal["turning round", "turning there", "going"]) -> None:
        self._doing = doing
        self._held = 0.0


def freest_way(points: FloatArray, robot: Robot) -> tuple[float, float]:
    """Return in which direction the body can go farthest before points ``(N, 2)``, and how far, at most `WAY`.

    Points are in the body frame; the direction is from the robot's heading, radians, the way in metres.
    """
    half, ahead = robot.body.inner_radius, robot.body.outer_radius
    cosine, sine = np.cos(DIRECTIONS)[:, None], np.sin(DIRECTIONS)[:, None]
    along = cosine * points[:, 0] + sine * points[:, 1]
    aside = np.abs(cosine * points[:, 1] - sine * points[:, 0])
    free = np.where((aside < half) & (along > 0.0), along, np.inf).min(axis=1, initial=np.inf) - ahead
    # Of directions that are as free, the one that takes the least turning.
    best = int(np.argmax(np.minimum(free, 2.0 * WAY) - 1e-3 * np.abs(DIRECTIONS)))
    return float(DIRECTIONS[best]), float(np.clip(free[best], 0.0, WAY))
