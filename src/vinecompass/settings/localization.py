"""What can be tuned about localization."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from vinecompass.files import Fraction, Model, NotNegative, Positive, Whole
from vinecompass.settings.tuned import by_factor, evenly, tuned

__all__ = ["LocalizationSettings"]


class LocalizationSettings(Model):
    """The ``[localization]`` table of the settings."""

    measurement: Literal["field", "beams"] = Field("field", description='"field" (likelihood field) or "beams" (cast)')
    beams: Whole = tuned(
        90,
        by_factor(20, 400),
        "how many beams of a scan are weighed, a whole number",
        "exactness, against computing time",
    )
    beam_trust: Fraction = tuned(
        0.9,
        by_factor(0.1, 1.0),
        "how far neighbouring beams count as independent, 0 to 1",
        "quick settling, against overconfidence",
    )
    field_spread: Positive = tuned(
        0.06,
        by_factor(0.02, 0.3),
        "standard deviation of a beam's end about the wall, m",
        "finding itself from afar, against exactness",
    )
    stray_share: Fraction = tuned(
        0.2,
        by_factor(0.02, 0.6),
        "share of beams that end on nothing mapped, 0 to 1",
        "people and moved things, against quick settling",
    )
    map_spread: NotNegative = tuned(
        0.0115,
        by_factor(0.002, 0.1),
        "standard deviation of the map's own walls, m",
        "an honest ellipse on coarse maps, against a tight one",
    )
    map_spread_deg: NotNegative = tuned(
        0.05,
        by_factor(0.01, 1.0),
        "and of their direction, degrees",
        "an honest ellipse on coarse maps, against a tight one",
    )
    least_particles: Whole = tuned(
        300, by_factor(50, 2000), "fewest particles, a whole number", "surviving surprises, against computing time"
    )
    most_particles: Whole = tuned(
        6000,
        by_factor(500, 50000),
        "most particles, a whole number",
        "finding itself from afar, against computing time",
    )
    count_error: Positive = tuned(
        0.05,
        by_factor(0.01, 0.3),
        "how far the cloud may be from the belief it stands for",
        "computing time, against the cloud's exactness",
    )
    start_spread: Positive = tuned(
        0.6,
        by_factor(0.05, 3.0),
        "standard deviation of the initial position, m",
        "rough starts, against particles spread thin",
    )
    start_spread_deg: Positive = tuned(
        18.0,
        by_factor(2.0, 90.0),
        "standard deviation of the initial heading, degrees",
        "rough starts, against particles spread thin",
    )
    distance_noise: NotNegative = tuned(
        0.05,
        by_factor(0.005, 0.3),
        "odometry's error along the way, m per root of a metre",
        "bad odometry, against exactness",
    )
    sideways_noise: NotNegative = tuned(
        0.01, by_factor(0.002, 0.1), "and across it, m per root of a metre", "bad odometry, against exactness"
    )
    turn_noise: NotNegative = tuned(
        0.03,
        by_factor(0.005, 0.3),
        "odometry's error in turning, rad per root of a radian",
        "bad odometry, against exactness",
    )
    turn_noise_per_metre: NotNegative = tuned(
        0.04,
        by_factor(0.005, 0.3),
        "odometry's error in heading, rad per root of a metre",
        "bad odometry, against exactness",
    )
    slip_share: Fraction = tuned(
        0.2,
        by_factor(0.02, 0.6),
        "share of the particles that take the wheels to slip, 0 to 1",
        "slipping wheels, against exactness",
    )
    slip_factor: Positive = tuned(
        6.0,
        by_factor(2.0, 20.0),
        "how many times the noise is larger for these",
        "slipping wheels, against particles spread thin",
    )
    settled_spread: Positive = tuned(
        0.08,
        by_factor(0.03, 0.3),
        "standard deviation at which the position is settled, m",
        "settling early, against being sure",
    )
    settled_spread_deg: Positive = tuned(
        2.0,
        by_factor(0.5, 10.0),
        "standard deviation at which the heading is, degrees",
        "settling early, against being sure",
    )
    settled_agreement: Fraction = tuned(
        0.6,
        evenly(0.3, 0.9),
        "share of beams that must agree with the map by then, 0 to 1",
        "being sure, against settling early",
    )
    doubt_agreement: Fraction = tuned(
        0.5,
        evenly(0.2, 0.8),
        "share of beams agreeing below which the pose is doubted, 0 to 1",
        "doubting early, against false alarms",
    )
    doubt_time: Positive = tuned(
        0.6,
        by_factor(0.2, 3.0),
        "how long a change must last before the state follows it, s",
        "no false alarms, against doubting early",
    )
    blind_time: Positive = tuned(
        1.0,
        by_factor(0.3, 5.0),
        "how long no beam may return before the pose is doubted, s",
        "no false alarms, against doubting early",
    )
    clearly_better: Positive = tuned(
        1.07,
        evenly(1.02, 1.5),
        "how many times as well another place must fit to be warned of",
        "no false warnings, against finding a wrong start",
    )

    @model_validator(mode="after")
    def _numbers_go_together(self) -> LocalizationSettings:
        if self.least_particles > self.most_particles:
            raise ValueError(
                f"least_particles = {self.least_particles} is above most_particles = {self.most_particles}"
            )
        return self
