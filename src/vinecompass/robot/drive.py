"""Commands to a drive, and its limits."""

from __future__ import annotations

from dataclasses import dataclass
from math import hypot, isfinite

import numpy as np
from numpy.typing import NDArray

from vinecompass.robot.robot import Drive

__all__ = ["Command", "braked_on_its_curve", "limit_command"]


@dataclass(frozen=True)
class Command:
    """Wanted motion of the body.

    Parameters
    ----------
    speed : float
        Forward, m/s; negative is backward.
    turn_rate : float
        Counter-clockwise, rad/s.
    sideways : float
        To the left, m/s; only an omni drive has any.
    """

    speed: float = 0.0
    turn_rate: float = 0.0
    sideways: float = 0.0

    @property
    def velocity(self) -> NDArray[np.float64]:
        """Speed ahead and to the left, m/s, and turn rate, rad/s."""
        return np.array([self.speed, self.sideways, self.turn_rate])

    @property
    def standing(self) -> bool:
        """Whether it asks for no motion at all."""
        return self.speed == self.turn_rate == self.sideways == 0.0

    def scaled(self, share: float) -> Command:
        """Return a share of it: the same curve, slower."""
        return Command(self.speed * share, self.turn_rate * share, self.sideways * share)


def limit_command(wanted: Command, current: Command, duration: float, drive: Drive) -> Command:
    """Return what comes nearest to `wanted` that the drive can reach from `current` within `duration` seconds.

    The result is finite and inside the limits whatever is wanted; a wish that is not finite counts as a wish to stop.
    Speeds and accelerations of the body are kept, a car's turning radius, and the speed of every wheel's rim
    (`Drive.top_rim_speed`): a curve that asks too much of its outer wheel is driven slower.
    """
    speed, turn_rate, sideways = (
        value if isfinite(value) else 0.0 for value in (wanted.speed, wanted.turn_rate, wanted.sideways)
    )
    speed = min(max(speed, -drive.reverse_speed), drive.top_speed)
    turn_rate = min(max(turn_rate, -drive.top_turn_rate), drive.top_turn_rate)
    sideways = min(max(sideways, -drive.top_speed), drive.top_speed) if drive.kind == "omni" else 0.0
    share = min(1.0, 1.0 / max(_load(drive, speed, sideways, turn_rate), 1e-9))
    speed, turn_rate, sideways = share * speed, share * turn_rate, share * sideways
    change = drive.turn_acceleration * duration
    turn_rate = min(max(turn_rate, current.turn_rate - change), current.turn_rate + change)
    speed = _toward(speed, current.speed, duration, drive)
    sideways = _toward(sideways, current.sideways, duration, drive)
    if drive.turning_radius is not None:
        widest = abs(speed) / drive.turning_radius
        turn_rate = min(max(turn_rate, -widest), widest)
    if _load(drive, speed, sideways, turn_rate) <= 1.0 + 1e-9:
        return Command(speed, turn_rate, sideways)
    # Reached at different times, the three ask too much together: the turn gives way as fast as it can, then the speed.
    straightest = min(max(0.0, current.turn_rate - change), current.turn_rate + change)
    low, high = (straightest, current.speed, current.sideways), (straightest, speed, sideways)
    if _load(drive, speed, sideways, straightest) <= 1.0:
        low, high = high, (turn_rate, speed, sideways)
    for _ in range(30):
        middle = (0.5 * (low[0] + high[0]), 0.5 * (low[1] + high[1]), 0.5 * (low[2] + high[2]))
        low, high = (middle, high) if _load(drive, middle[1], middle[2], middle[0]) <= 1.0 else (low, middle)
    return Command(low[1], low[0], low[2])


def braked_on_its_curve(current: Command, duration: float, drive: Drive) -> Command:
    """Return what is left of a command after braking for `duration` seconds, so that the body stays on its curve.

    Speed and turn rate come to nought together: each braked as hard as the drive can, the one that ends first would
    lead the body off the curve that it was found free on.
    """
    pace = hypot(current.speed, current.sideways)
    seconds = max(pace / drive.braking, abs(current.turn_rate) / drive.turn_acceleration)
    return current.scaled(1.0 - duration / seconds) if seconds > duration else Command()


def _toward(wanted: float, current: float, duration: float, drive: Drive) -> float:
    """Accelerate away from standstill, brake towards it; a change of direction stops at standstill first."""
    faster, slower = drive.acceleration * duration, drive.braking * duration
    if current > 0.0:
        return min(max(wanted, max(current - slower, 0.0)), current + faster)
    if current < 0.0:
        return max(min(wanted, min(current + slower, 0.0)), current - faster)
    return min(max(wanted, -faster), faster)


def _load(drive: Drive, speed: float, sideways: float, turn_rate: float) -> float:
    """Return the speed of the fastest wheel's rim as a share of what it may be."""
    fastest = max(abs(a * speed + b * sideways + c * turn_rate) for a, b, c in drive.rolling_rows)
    return max(fastest / drive.top_rim_speed, hypot(speed, sideways) / drive.top_speed)
