"""What can be tuned about localization."""

from __future__ import annotations

from typing import Literal

from pydantic import Field

from vinecompass.files import Fraction, Model, NotNegative, Positive, Whole

__all__ = ["LocalizationSettings"]


class LocalizationSettings(Model):
    """The ``[localization]`` table of the settings."""

    measurement: Literal["field", "beams"] = Field("field", description='"field" (likelihood field) or "beams" (cast)')
    beams: Whole = Field(90, description="how many beams of a scan are weighed, a whole number")
    beam_trust: Fraction = Field(0.9, description="how far neighbouring beams count as independent, 0 to 1")
    field_spread: Positive = Field(0.06, description="standard deviation of a beam's end about the wall, m")
    stray_share: Fraction = Field(0.2, description="share of beams that end on nothing mapped, 0 to 1")
    map_spread: NotNegative = Field(0.0115, description="standard deviation of the map's own walls, m")
    map_spread_deg: NotNegative = Field(0.05, description="and of their direction, degrees")
    least_particles: Whole = Field(300, description="a whole number")
    most_particles: Whole = Field(5000, description="a whole number")
    count_error: Positive = Field(0.05, description="how far the cloud may be from the belief it stands for")
    start_spread: Positive = Field(0.5, description="standard deviation of the initial position, m")
    start_spread_deg: Positive = Field(15.0, description="standard deviation of the initial heading, degrees")
    distance_noise: NotNegative = Field(0.05, description="odometry's error along the way, m per root of a metre")
    sideways_noise: NotNegative = Field(0.01, description="and across it, m per root of a metre")
    turn_noise: NotNegative = Field(0.03, description="odometry's error in turning, rad per root of a radian")
    turn_noise_per_metre: NotNegative = Field(0.04, description="odometry's error in heading, rad per root of a metre")
    slip_share: Fraction = Field(0.2, description="share of the particles that take the wheels to slip, 0 to 1")
    slip_factor: Positive = Field(6.0, description="how many times the noise is larger for these")
    settled_spread: Positive = Field(0.08, description="standard deviation at which the position is settled, m")
    settled_spread_deg: Positive = Field(2.0, description="standard deviation at which the heading is, degrees")
    settled_agreement: Fraction = Field(0.6, description="share of beams that must agree with the map by then, 0 to 1")
    doubt_agreement: Fraction = Field(
        0.5, description="share of beams agreeing below which the pose is doubted, 0 to 1"
    )
    doubt_time: Positive = Field(0.6, description="how long a change must last before the state follows it, s")
    blind_time: Positive = Field(1.0, description="how long no beam may return before the pose is doubted, s")
    clearly_better: Positive = Field(1.07, description="how many times as well another place must fit to be warned of")
