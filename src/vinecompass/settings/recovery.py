"""What can be tuned about recoveries; their order is a setting of the loop."""

from __future__ import annotations

from pydantic import model_validator

from vinecompass.files import Model, Positive
from vinecompass.settings.tuned import by_factor, evenly, tuned

__all__ = ["RecoverySettings"]


class RecoverySettings(Model):
    """The ``[recovery]`` table of the settings."""

    wait: Positive = tuned(4.0, by_factor(1.0, 30.0), "how long it stands and waits, s", "patience, against time")
    turn_rate: Positive = tuned(
        0.8, by_factor(0.2, 2.0), "at which it looks around, rad/s", "time, against scans that are not bent"
    )
    back_speed: Positive = tuned(
        0.2,
        by_factor(0.05, 0.5),
        "at which it backs out, m/s",
        "time, against care: a scanner in front does not see what lies behind",
    )
    back_way: Positive = tuned(
        0.5, evenly(0.1, 1.5), "how far it backs out at least, where it can, m", "room to turn, against time"
    )
    longest_back_way: Positive = tuned(
        3.0,
        evenly(0.5, 6.0),
        "how far at most, until there is room to turn, m",
        "coming out of long aisles, against going far without need",
    )

    @model_validator(mode="after")
    def _ways_go_together(self) -> RecoverySettings:
        if self.back_way > self.longest_back_way:
            raise ValueError(f"back_way = {self.back_way:g} is above longest_back_way = {self.longest_back_way:g}")
        return self
