"""The settings of mapping."""

from __future__ import annotations

from pydantic import Field as Key
from pydantic import model_validator

from vinecompass.files import Fraction, Model, NotNegative, Positive

__all__ = ["MappingSettings"]


class MappingSettings(Model):
    """The ``[mapping]`` table of the settings."""

    cell_size: Positive = Key(0.05, description="side of a cell, m")
    keyframe_distance: Positive = Key(0.25, description="a scan is kept and added to the map after this much travel, m")
    keyframe_turn_deg: Positive = Key(10.0, description="or after this much turning, degrees")
    hit_if_occupied: Fraction = Key(0.36, description="how likely a beam ends in an occupied cell that it reaches")
    hit_if_free: Fraction = Key(0.03, description="how likely it ends in a free one: people, noise")
    bound: Positive = Key(6.0, description="log-odds stay within this")
    clear_reach: Positive = Key(8.0, description="how far a beam without return clears the floor, m")
    clear_margin: NotNegative = Key(0.08, description="how far short of its end a beam clears the floor, m")
    search_reach: Positive = Key(0.12, description="the scan is searched for this far about the odometry's guess, m")
    search_turn_deg: Positive = Key(5.0, description="and this far to each side, degrees")
    field_spread: Positive = Key(0.08, description="standard deviation of the likelihood field, m")
    submap_length: Positive = Key(4.0, description="a new submap is begun after this much travel, m")
    close_loops: bool = Key(True, description="whether places seen again straighten the map")
    loop_agreement: Fraction = Key(0.55, description="agreement, 0 to 1, below which a place is not taken for another")
    loop_drift: Positive = Key(0.02, description="how far the map may have drifted per metre of way, m")
    loop_drift_deg: Positive = Key(0.1, description="and how much it may have turned per metre, degrees")

    @model_validator(mode="after")
    def _beams_tell_something(self) -> MappingSettings:
        if not 0.0 < self.hit_if_free < self.hit_if_occupied < 1.0:
            raise ValueError(
                f"hit_if_free = {self.hit_if_free} is not below hit_if_occupied = {self.hit_if_occupied}, "
                "or one of them is 0 or 1"
            )
        return self
