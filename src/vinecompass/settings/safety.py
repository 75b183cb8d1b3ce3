"""The settings of safety."""

from __future__ import annotations

from pydantic import Field

from vinecompass.files import Fraction, Model, NotNegative, Positive

__all__ = ["SafetySettings"]


class SafetySettings(Model):
    """The ``[safety]`` table of the settings."""

    margin: NotNegative = Field(0.04, description="what is kept free about the body, m")
    delay: NotNegative = Field(0.2, description="time from seeing to braking, s")
    stale_after: Positive = Field(3.5, description="age of a scan beyond which the robot stops, periods of the scanner")
    give_up_after: Positive = Field(10.0, description="time without good input after which a mission ends, s")
    least_beams: Fraction = Field(0.75, description="share of beams that must give a reading")
    people_distance: NotNegative = Field(1.0, description="gap to a person within which people_speed holds, m")
    people_speed: Positive = Field(0.5, description="highest speed that near to a person, m/s")
    people_margin: NotNegative = Field(0.15, description="what is kept free between body and person, m")
