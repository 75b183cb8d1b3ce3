"""The settings of mapping."""

from __future__ import annotations

from pydantic import Field as Key
from pydantic import model_validator

from vinecompass.files import Fraction, Model, NotNegative, Positive
from vinecompass.settings.tuned import by_factor, evenly, tuned

__all__ = ["MappingSettings"]


class MappingSettings(Model):
    """The ``[mapping]`` table of the settings."""

    cell_size: Positive = tuned(0.05, by_factor(0.02, 0.1), "side of a cell, m", "computing time, against detail")
    keyframe_distance: Positive = tuned(
        0.25,
        by_factor(0.1, 1.0),
        "a scan is kept and added to the map after this much travel, m",
        "computing time, against detail",
    )
    keyframe_turn_deg: Positive = tuned(
        10.0, by_factor(3.0, 45.0), "or after this much turning, degrees", "computing time, against detail"
    )
    hit_if_occupied: Fraction = tuned(
        0.36,
        evenly(0.1, 0.8),
        "how likely a beam ends in an occupied cell that it reaches",
        "people taken out, against glass and thin posts",
    )
    hit_if_free: Fraction = tuned(
        0.03,
        by_factor(0.005, 0.15),
        "how likely it ends in a free one: people, noise",
        "people taken out, against sure walls",
    )
    bound: Positive = tuned(
        6.0, evenly(2.0, 12.0), "log-odds stay within this", "steady walls, against maps that follow what changed"
    )
    clear_reach: Positive = tuned(
        8.0,
        by_factor(2.0, 20.0),
        "how far a beam without return clears the floor, m",
        "free floor in halls, against floor freed behind glass",
    )
    clear_margin: NotNegative = tuned(
        0.08,
        by_factor(0.02, 0.3),
        "how far short of its end a beam clears the floor, m",
        "thin walls kept, against free floor beside them",
    )
    search_reach: Positive = tuned(
        0.12,
        by_factor(0.05, 0.5),
        "the scan is searched for this far about the odometry's guess, m",
        "bad odometry, against matches that are wrong",
    )
    search_turn_deg: Positive = tuned(
        5.0, by_factor(1.0, 15.0), "and this far to each side, degrees", "bad odometry, against matches that are wrong"
    )
    field_spread: Positive = tuned(
        0.08,
        by_factor(0.03, 0.25),
        "standard deviation of the likelihood field, m",
        "finding a match from afar, against exactness",
    )
    submap_length: Positive = tuned(
        4.0,
        by_factor(2.0, 10.0),
        "a new submap is begun after this much travel, m",
        "loops that are sure, against drift inside a submap",
    )
    close_loops: bool = Key(True, description="whether places seen again straighten the map")
    loop_agreement: Fraction = tuned(
        0.55,
        evenly(0.35, 0.8),
        "agreement, 0 to 1, below which a place is not taken for another",
        "no false loops, against loops not found",
    )
    loop_drift: Positive = tuned(
        0.02,
        by_factor(0.005, 0.1),
        "how far the map may have drifted per metre of way, m",
        "loops after much drift, against false ones",
    )
    loop_drift_deg: Positive = tuned(
        0.1,
        by_factor(0.02, 1.0),
        "and how much it may have turned per metre, degrees",
        "loops after much drift, against false ones",
    )

    @model_validator(mode="after")
    def _beams_tell_something(self) -> MappingSettings:
        if not 0.0 < self.hit_if_free < self.hit_if_occupied < 1.0:
            raise ValueError(
                f"hit_if_free = {self.hit_if_free} is not below hit_if_occupied = {self.hit_if_occupied}, "
                "or one of them is 0 or 1"
            )
        return self
