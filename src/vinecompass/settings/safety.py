"""The settings of safety."""

from __future__ import annotations

from vinecompass.files import Fraction, Model, NotNegative, Positive
from vinecompass.settings.tuned import by_factor, evenly, tuned

__all__ = ["SafetySettings"]


class SafetySettings(Model):
    """The ``[safety]`` table of the settings."""

    margin: NotNegative = tuned(
        0.04, evenly(0.0, 0.2), "what is kept free about the body, m", "room about the body, against narrow places"
    )
    delay: NotNegative = tuned(
        0.2, by_factor(0.05, 0.6), "time from seeing to braking, s", "braking early, against speed"
    )
    stale_after: Positive = tuned(
        3.5,
        by_factor(2.5, 10.0),
        "age of a scan beyond which the robot stops, periods of the scanner",
        "bad connections, against driving blind",
    )
    give_up_after: Positive = tuned(
        10.0, by_factor(3.0, 60.0), "time without good input after which a mission ends, s", "patience, against time"
    )
    least_beams: Fraction = tuned(
        0.75, evenly(0.3, 0.95), "share of beams that must give a reading", "driving on good scans only, against stops"
    )
    people_distance: NotNegative = tuned(
        1.0, evenly(0.3, 2.5), "gap to a person within which people_speed holds, m", "care beside people, against time"
    )
    people_speed: Positive = tuned(
        0.5, by_factor(0.1, 1.0), "highest speed that near to a person, m/s", "time, against care beside people"
    )
    people_margin: NotNegative = tuned(
        0.15,
        evenly(0.05, 0.6),
        "what is kept free between body and person, m",
        "room for people, against narrow places",
    )
