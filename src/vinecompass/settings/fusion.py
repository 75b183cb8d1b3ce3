"""What the fusion filter assumes beyond the robot file."""

from __future__ import annotations

from typing import Annotated

from annotated_types import Lt

from vinecompass.files import Fraction, Model, NotNegative, Positive
from vinecompass.settings.tuned import by_factor, evenly, tuned

__all__ = ["FusionSettings"]


class FusionSettings(Model):
    """The ``[fusion]`` table of the settings. The sensors' own noise stands in the robot file."""

    speed_change: Positive = tuned(
        0.5,
        by_factor(0.1, 3.0),
        "how far speed wanders in 1 s where no acceleration is read, m/s",
        "quick changes, against smoothness",
    )
    turn_rate_change: Positive = tuned(
        0.7,
        by_factor(0.1, 5.0),
        "how far the turn rate wanders in 1 s where no gyro is read, rad/s",
        "quick changes, against smoothness",
    )
    acceleration_bias_walk: NotNegative = tuned(
        1e-4,
        by_factor(1e-06, 0.01),
        "how far the accelerations' bias wanders in 1 s, m/s2",
        "a bias that wanders, against exactness",
    )
    odometry_noise: Positive = tuned(
        0.0005,
        by_factor(5e-05, 0.005),
        "standard deviation of one step of an odometry stream, m",
        "less belief in the odometry, against more in it",
    )
    odometry_turn_noise: Positive = tuned(
        0.001, by_factor(0.0001, 0.01), "and of its turn, rad", "less belief in the odometry, against more in it"
    )
    scan_noise_factor: Positive = tuned(
        1.0,
        by_factor(0.3, 5.0),
        "times the standard deviation that laser odometry gives itself",
        "less belief in scans, against more in them",
    )
    start_spread: Positive = tuned(
        0.0001,
        by_factor(1e-05, 1.0),
        "doubt about the start, m, and rad for its heading",
        "an unknown start, against a track that is smooth there",
    )
    gate: Annotated[Fraction, Lt(1.0)] = tuned(
        0.999,
        evenly(0.95, 0.9999),
        "share of good readings that pass; the rest is left out",
        "all good readings used, against bad ones let in",
    )
    doubt_time: NotNegative = tuned(
        0.3,
        by_factor(0.05, 2.0),
        "how long wheels are not believed after they slipped, s",
        "slip that comes again, against wheels left out",
    )
    still_time: Positive = tuned(
        0.4,
        by_factor(0.1, 2.0),
        "wheels that have not moved for so long stand still, s",
        "no false standstills, against a bias learned soon",
    )
    still_spread: Positive = tuned(
        0.001,
        by_factor(0.0001, 0.02),
        "doubt about standing still, m/s and rad/s",
        "trembling at rest, against a track that stands",
    )
