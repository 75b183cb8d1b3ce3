"""What can be tuned about the price of the floor."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from vinecompass.files import Model, NotNegative, Number, Positive

__all__ = ["CostSettings", "Fall", "Unknown"]

Fall = Literal["line", "parabola", "exponential"]
"""How the price falls from contact to comfort."""
Unknown = Literal["closed", "dear", "free"]
"""What unknown floor is taken for."""


class CostSettings(Model):
    """The ``[costs]`` table of the settings."""

    unknown: Unknown = Field("closed", description='"closed", "dear" or "free"')
    unknown_price: Number = Field(3.0, ge=1.0, description="price of unknown floor where that is dear, 1 or more")
    contact_price: Number = Field(8.0, ge=1.0, description="price where the body would just touch, 1 or more")
    comfort: Positive = Field(0.6, description="gap beside the body from which floor costs 1, m")
    fall: Fall = Field("parabola", description='how the price falls in between: "line", "parabola" or "exponential"')
    obstacle_apart: Positive = Field(0.25, description="distance from mapped walls of an obstacle of its own, m")
    obstacle_memory: Positive = Field(60.0, description="how long an obstacle seen is remembered, s")
    obstacle_reach: Positive = Field(6.0, description="how far from the robot obstacles are entered, m")
    people_price: Number = Field(6.0, ge=1.0, description="price of floor where a person is, 1 or more")
    people_spread: Positive = Field(0.5, description="how far it spreads beside and behind a person, m")
    people_lookahead: NotNegative = Field(1.2, description="time for which it is drawn out ahead of their walk, s")
    people_wide_side: Literal["left", "right", "none"] = Field(
        "right", description='side of a walker that is dearer, to be passed on the other: "left", "right" or "none"'
    )
    people_widening: Number = Field(3.0, ge=1.0, description="how many times farther it spreads there, 1 or more")
