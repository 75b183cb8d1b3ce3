"""What can be tuned about the price of the floor."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from vinecompass.files import AtLeastOne, Model, NotNegative, Positive
from vinecompass.settings.tuned import by_factor, evenly, tuned

__all__ = ["CostSettings", "Fall", "Unknown"]

Fall = Literal["line", "parabola", "exponential"]
"""How the price falls from contact to comfort."""
Unknown = Literal["closed", "dear", "free"]
"""What unknown floor is taken for."""


class CostSettings(Model):
    """The ``[costs]`` table of the settings."""

    unknown: Unknown = Field("closed", description='"closed", "dear" or "free"')
    unknown_price: AtLeastOne = tuned(
        3.0,
        by_factor(1.0, 20.0),
        "price of unknown floor where that is dear, 1 or more",
        "keeping to known floor, against way",
    )
    contact_price: AtLeastOne = tuned(
        8.0, by_factor(1.5, 50.0), "price where the body would just touch, 1 or more", "keeping off walls, against way"
    )
    comfort: Positive = tuned(
        0.6,
        evenly(0.05, 2.0),
        "gap beside the body from which floor costs 1, m",
        "room beside the body, against way and dear doorways",
    )
    fall: Fall = Field("parabola", description='how the price falls in between: "line", "parabola" or "exponential"')
    obstacle_apart: Positive = tuned(
        0.25,
        evenly(0.05, 0.6),
        "distance from mapped walls of an obstacle of its own, m",
        "no false obstacles along walls, against seeing what stands by one",
    )
    obstacle_memory: Positive = tuned(
        60.0,
        by_factor(5.0, 600.0),
        "how long an obstacle seen is remembered, s",
        "not driving at what is out of sight, against waiting for what is gone",
    )
    obstacle_reach: Positive = tuned(
        6.0,
        evenly(2.0, 15.0),
        "how far from the robot obstacles are entered, m",
        "seeing obstacles early, against time for each scan",
    )
    people_price: AtLeastOne = tuned(
        3.0, by_factor(1.0, 30.0), "price of floor where a person is, 1 or more", "keeping off people, against way"
    )
    people_spread: Positive = tuned(
        0.5,
        evenly(0.1, 1.5),
        "how far it spreads beside and behind a person, m",
        "keeping off people, against narrow ways that close",
    )
    people_lookahead: NotNegative = tuned(
        1.2,
        evenly(0.0, 4.0),
        "time for which it is drawn out ahead of their walk, s",
        "keeping out of people's way, against way",
    )
    people_wide_side: Literal["left", "right", "none"] = Field(
        "right", description='side of a walker that is dearer, to be passed on the other: "left", "right" or "none"'
    )
    people_widening: AtLeastOne = tuned(
        3.0,
        evenly(1.0, 6.0),
        "how many times farther it spreads there, 1 or more",
        "passing on the usual side, against way",
    )
