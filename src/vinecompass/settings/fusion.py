"""What the fusion filter assumes beyond the robot file."""

from __future__ import annotations

from typing import Annotated

from annotated_types import Lt
from pydantic import Field as Key

from vinecompass.files import Fraction, Model, NotNegative, Positive

__all__ = ["FusionSettings"]


class FusionSettings(Model):
    """The ``[fusion]`` table of the settings. The sensors' own noise stands in the robot file."""

    speed_change: Positive = Key(0.5, description="how far speed wanders in 1 s where no acceleration is read, m/s")
    turn_rate_change: Positive = Key(
        0.7, description="how far the turn rate wanders in 1 s where no gyro is read, rad/s"
    )
    acceleration_bias_walk: NotNegative = Key(1e-4, description="how far the accelerations' bias wanders in 1 s, m/s2")
    odometry_noise: Positive = Key(0.0005, description="standard deviation of one step of an odometry stream, m")
    odometry_turn_noise: Positive = Key(0.001, description="and of its turn, rad")
    scan_noise_factor: Positive = Key(1.0, description="times the standard deviation that laser odometry gives itself")
    start_spread: Positive = Key(0.0001, description="doubt about the start, m, and rad for its heading")
    gate: Annotated[Fraction, Lt(1.0)] = Key(
        0.999, description="share of good readings that pass; the rest is left out"
    )
    doubt_time: NotNegative = Key(0.3, description="how long wheels are not believed after they slipped, s")
    still_time: Positive = Key(0.4, description="wheels that have not moved for so long stand still, s")
    still_spread: Positive = Key(0.001, description="doubt about standing still, m/s and rad/s")
