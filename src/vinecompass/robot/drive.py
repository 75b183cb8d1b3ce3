"""Commands to a differential drive: limits, wheel speeds and braking."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.robot.robot import Drive

__all__ = ["Command", "limit_command", "stopping_distance", "wheel_speeds"]


@dataclass(frozen=True)
class Command:
    """Wanted motion of the body: `speed` forward (m/s, negative backward) and `turn_rate` (rad/s)."""

    speed: float = 0.0
    turn_rate: float = 0.0


def limit_command(wanted: Command, current: Command, duration: float, drive: Drive) -> Command:
    """Return the command nearest to `wanted` that the drive can reach from `current` within `duration` seconds.

    The result is finite and inside the speed and acceleration limits whatever is wanted; a wish that is not
    finite counts as a wish to stop.
    """
    speed = wanted.speed if np.isfinite(wanted.speed) else 0.0
    turn_rate = wanted.turn_rate if np.isfinite(wanted.turn_rate) else 0.0
    speed = float(np.clip(speed, -drive.reverse_speed, drive.top_speed))
    turn_rate = float(np.clip(turn_rate, -drive.top_turn_rate, drive.top_turn_rate))
    # Away from standstill it accelerates, towards it it brakes; a change of direction stops at standstill first.
    faster, slower = drive.acceleration * duration, drive.braking * duration
    if current.speed > 0.0:
        speed = float(np.clip(speed, max(current.speed - slower, 0.0), current.speed + faster))
    elif current.speed < 0.0:
        speed = float(np.clip(speed, current.speed - faster, min(current.speed + slower, 0.0)))
    else:
        speed = float(np.clip(speed, -faster, faster))
    change = drive.turn_acceleration * duration
    return Command(speed, float(np.clip(turn_rate, current.turn_rate - change, current.turn_rate + change)))


def stopping_distance(speed: float, drive: Drive, *, delay: float) -> float:
    """Return how far the robot still goes at `speed` (m/s) if it brakes after `delay` seconds, m."""
    return abs(speed) * delay + speed**2 / (2.0 * drive.braking)


def wheel_speeds(speed: ArrayLike, turn_rate: ArrayLike, drive: Drive) -> NDArray[np.float64]:
    """Return the rim speeds of the left and right wheel ``(..., 2)``, m/s, for a motion of the body."""
    half = np.asarray(turn_rate, dtype=float) * drive.track_width / 2.0
    return np.stack([np.asarray(speed, dtype=float) - half, np.asarray(speed, dtype=float) + half], axis=-1)
