"""What a drive can do, and what of a command it can do next."""

from __future__ import annotations

from functools import lru_cache
from math import hypot
from typing import NamedTuple

import numpy as np
from numpy.typing import NDArray

from vinecompass.door import checked
from vinecompass.motion.command import Command
from vinecompass.motion.kernels import reach_velocity
from vinecompass.motion.kinds import kind_of
from vinecompass.motion.wheels import rolling_of, unrolling_of
from vinecompass.robot import Drive

__all__ = [
    "MotionLimits",
    "braked_on_its_curve",
    "done_of",
    "limit_command",
    "limits_of",
    "raised_to_least",
    "reachable_velocities",
]

FloatArray = NDArray[np.float64]


class MotionLimits(NamedTuple):
    """A drive's law of motion, as both Python and kernels take it; `limits_of` makes one from a robot file's drive.

    Parameters
    ----------
    top_speed, reverse_speed, top_sideways : float
        Ahead, backward, and to either side (0 for a drive that cannot), m/s.
    top_turn_rate : float
        rad/s.
    acceleration, braking : float
        Away from standstill and towards it, m/s2.
    turn_acceleration : float
        rad/s2.
    turning_radius : float
        The least that it can turn on, m; 0 where it turns on the spot.
    rolling : array, (wheels, 3)
        The speed of each wheel's rim from the body's velocity.
    unrolling : array, (3, wheels)
        The body's velocity from the speeds of the rims.
    top_rim_speed : float
        The fastest that a wheel's rim goes while the body moves straight ahead, sideways or round alone, m/s. Motions
        that ask for more together (a curve at top speed) are driven slower.
    delay, lag : float
        Seconds from a command to its effect, and of the first-order lag with which the base follows.
    """

    top_speed: float
    reverse_speed: float
    top_sideways: float
    top_turn_rate: float
    acceleration: float
    braking: float
    turn_acceleration: float
    turning_radius: float
    rolling: FloatArray
    unrolling: FloatArray
    top_rim_speed: float
    delay: float = 0.0
    lag: float = 0.0

    @property
    def turns_on_the_spot(self) -> bool:
        """Whether it can turn without going anywhere."""
        return self.turning_radius == 0.0

    @property
    def goes_sideways(self) -> bool:
        """Whether it can go to the left and right without turning."""
        return self.top_sideways > 0.0

    def reserved(self, share: float) -> MotionLimits:
        """Return the limits of a drive that uses only a share of this one's speeds."""
        top_speed, top_sideways = share * self.top_speed, share * self.top_sideways
        top_turn_rate = share * self.top_turn_rate
        return self._replace(
            top_speed=top_speed,
            reverse_speed=share * self.reverse_speed,
            top_sideways=top_sideways,
            top_turn_rate=top_turn_rate,
            top_rim_speed=_top_rim_speed(self.rolling, top_speed, top_sideways, top_turn_rate),
        )


@checked
@lru_cache(maxsize=64)
def limits_of(drive: Drive) -> MotionLimits:
    """Return the law of motion of a robot file's drive; the same object for equal drives, not to be written to.

    Examples
    --------
    >>> from vinecompass import demo_file, read_robot
    >>> limits = limits_of(read_robot(demo_file("robot.toml")).drive)
    >>> limits.turns_on_the_spot, limits.goes_sideways, round(limits.top_rim_speed, 2)
    (True, False, 1.1)
    """
    top_sideways = drive.top_speed if kind_of(drive).goes_sideways else 0.0
    rolling = rolling_of(drive)
    return MotionLimits(
        top_speed=drive.top_speed,
        reverse_speed=drive.reverse_speed,
        top_sideways=top_sideways,
        top_turn_rate=drive.top_turn_rate,
        acceleration=drive.acceleration,
        braking=drive.braking,
        turn_acceleration=drive.turn_acceleration,
        turning_radius=0.0 if kind_of(drive).turns_on_the_spot else drive.turning_radius or 0.0,
        rolling=rolling,
        unrolling=unrolling_of(drive),
        top_rim_speed=_top_rim_speed(rolling, drive.top_speed, top_sideways, drive.top_turn_rate),
        delay=drive.delay,
        lag=drive.lag,
    )


def limit_command(wanted: Command, current: Command, duration: float, limits: MotionLimits) -> Command:
    """Return what comes nearest to `wanted` that the drive can reach from `current` within `duration` seconds.

    The result is finite and inside the limits whatever is wanted; a wish that is not finite counts as a wish to stop.
    Speeds and accelerations of the body are kept, a car's turning radius, and the speed of every wheel's rim: a curve
    that asks too much of its outer wheel is driven slower.
    """
    wish = wanted.velocity
    wish[~np.isfinite(wish)] = 0.0
    speed, sideways, turn_rate = reach_velocity(limits, wish, current.velocity, float(duration))
    return Command(speed, sideways=sideways, turn_rate=turn_rate)


def braked_on_its_curve(current: Command, duration: float, limits: MotionLimits) -> Command:
    """Return what is left of a command after braking for `duration` seconds, so that the body stays on its curve.

    Speed and turn rate come to nought together: each braked as hard as the drive can, the one that ends first would
    lead the body off the curve that it was found free on.
    """
    pace = hypot(current.speed, current.sideways)
    seconds = max(pace / limits.braking, abs(current.turn_rate) / limits.turn_acceleration)
    return current.scaled(1.0 - duration / seconds) if seconds > duration else Command()


def raised_to_least(wanted: Command, current: Command, drive: Drive) -> Command:
    """Return the least that the base can do where it is asked for less, and is not just coming to a stand.

    It would stand, and never get there.
    """
    pace, pace_now = (hypot(each.speed, each.sideways) for each in (wanted, current))
    if pace_now <= pace < drive.least_speed and pace > 0.0:
        return wanted.scaled(drive.least_speed / pace)
    turn_rate = abs(wanted.turn_rate)
    if pace == 0.0 and abs(current.turn_rate) <= turn_rate < drive.least_turn_rate and turn_rate > 0.0:
        return wanted.scaled(drive.least_turn_rate / turn_rate)
    return wanted


def done_of(command: Command, drive: Drive) -> Command:
    """Return what a base does of a command: where that is less than the least it can do, it stands."""
    if hypot(command.speed, command.sideways) >= drive.least_speed:
        return command
    turns = abs(command.turn_rate) >= drive.least_turn_rate
    return Command(turn_rate=command.turn_rate if turns else 0.0)


def reachable_velocities(
    limits: MotionLimits,
    current: Command,
    seconds: float,
    *,
    direction: int,
    top_speed: float,
    speeds: int,
    turn_rates: int,
) -> FloatArray:
    """Return velocities ``(K, 3)`` in an even grid over all that the drive reaches in a time, driving on one way.

    Straight on is always among the turn rates. A drive that goes sideways, too, is taken to drive along.

    Parameters
    ----------
    limits : MotionLimits
    current : Command
    seconds : float
    direction : {1, -1}
        Forward or in reverse. What it does the other way now counts as standing.
    top_speed : float
        Not to be exceeded besides, m/s.
    speeds, turn_rates : int
        How many of each.
    """
    now = max(current.speed * direction, 0.0)
    highest = min(now + limits.acceleration * seconds, max(top_speed, 0.0))
    lowest = min(max(now - limits.braking * seconds, 0.0), highest)
    change, top, turning = limits.turn_acceleration * seconds, limits.top_turn_rate, current.turn_rate
    turns = np.linspace(max(turning - change, -top), min(turning + change, top), turn_rates)
    turns[np.argmin(np.abs(turns))] = 0.0
    velocities = np.zeros((speeds, turn_rates, 3))
    velocities[:, :, 0] = (np.linspace(lowest, highest, speeds) * direction)[:, None]
    velocities[:, :, 2] = turns
    within = np.abs(velocities @ limits.rolling.T).max(axis=-1) <= limits.top_rim_speed + 1e-9
    within &= np.abs(velocities[:, :, 2]) * limits.turning_radius <= np.abs(velocities[:, :, 0]) + 1e-9
    return velocities[within] if np.any(within) else np.zeros((1, 3))


def _top_rim_speed(rolling: FloatArray, top_speed: float, top_sideways: float, top_turn_rate: float) -> float:
    return float(np.abs(rolling * [top_speed, top_sideways, top_turn_rate]).max())
