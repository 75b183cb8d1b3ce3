"""Rules for meeting people, as settings."""

from __future__ import annotations

from typing import Literal

from pydantic import Field, model_validator

from vinecompass.files import Model, NotNegative, Number, Positive
from vinecompass.settings.tuned import by_factor, evenly, tuned

__all__ = ["Approach", "PeopleRule", "PeopleSettings"]

Approach = Literal["approaching", "steady", "receding"]
"""How somebody moves along the line to another."""


class PeopleRule(Model):
    """One ``[[people.rule]]``: when it applies, and what it asks. Of all rules that apply, the first one counts."""

    name: str = Field(description="what the situation is called")
    nearest: NotNegative = Field(0.0, description="least distance from middle to middle, m")
    farthest: Positive = Field(8.0, description="greatest distance from middle to middle, m")
    bearing_from_deg: Number = Field(0.0, description="least bearing of the person off the robot's course, degrees")
    bearing_to_deg: Number = Field(180.0, description="greatest bearing, degrees, either side")
    walk_from_deg: Number = Field(0.0, description="least angle from the robot's course to the person's walk, degrees")
    walk_to_deg: Number = Field(180.0, description="greatest such angle: 180 walks towards it, 90 across")
    person: list[Approach] = Field(["approaching", "steady", "receding"], description="how the person moves")
    prefer: Literal["left", "right"] | None = Field(
        None, description='side on which the robot should pass, as it sees it, "left" or "right": others are charged'
    )
    keep_to: Literal["left", "right"] | None = Field(
        None, description='side of the line to the person that it must move to, "left" or "right": others are shut out'
    )
    may_approach: bool = Field(True, description="whether the robot may come nearer")
    straight: bool = Field(False, description="whether it must not turn towards the person")

    @model_validator(mode="after")
    def _ranges_are_not_empty(self) -> PeopleRule:
        for low, high in (
            ("nearest", "farthest"),
            ("bearing_from_deg", "bearing_to_deg"),
            ("walk_from_deg", "walk_to_deg"),
        ):
            least, most = getattr(self, low), getattr(self, high)
            if least > most:
                raise ValueError(f"{low} = {least:g} is above {high} = {most:g}: the rule would never apply")
        return self


USUAL_RULES = [
    PeopleRule(name="behind", farthest=6.0, bearing_from_deg=110.0),
    PeopleRule(
        name="shoulder to shoulder",
        farthest=2.2,
        bearing_from_deg=50.0,
        bearing_to_deg=110.0,
        walk_from_deg=135.0,
        straight=True,
    ),
    PeopleRule(
        name="crossing",
        farthest=4.0,
        bearing_to_deg=100.0,
        walk_from_deg=45.0,
        walk_to_deg=135.0,
        person=["approaching", "steady"],
        may_approach=False,
    ),
    PeopleRule(name="crossed", walk_from_deg=30.0, walk_to_deg=150.0, person=["receding"]),
    PeopleRule(name="near", farthest=4.5, bearing_to_deg=50.0, walk_from_deg=135.0, prefer="right", keep_to="right"),
    PeopleRule(name="far", bearing_to_deg=50.0, walk_from_deg=135.0, prefer="right"),
    PeopleRule(name="far"),
]


class PeopleSettings(Model):
    """The ``[people]`` table of the settings."""

    personal_space: Positive = tuned(
        1.1,
        evenly(0.4, 2.0),
        "distance from a person's middle to the body that is charged, m",
        "room for people, against time",
    )
    charge: NotNegative = tuned(
        8.0,
        by_factor(0.5, 40.0),
        "charge for coming as near as touching; none at personal_space, s",
        "room for people, against time",
    )
    rules: list[PeopleRule] = Field(
        USUAL_RULES, alias="rule", description="[[people.rule]] tables, in the order they are asked"
    )
