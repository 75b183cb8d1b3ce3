"""Commands to a drive, and its limits."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vinecompass.robot.robot import Drive

__all__ = ["Command", "limit_command"]


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
