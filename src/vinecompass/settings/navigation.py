"""What can be tuned about the loop: when it plans anew, and what it tries when it cannot go on."""

from __future__ import annotations

from pydantic import Field

from vinecompass.files import Model, NotNegative, Positive

__all__ = ["NavigationSettings"]


class NavigationSettings(Model):
    """The ``[navigation]`` table of the settings."""

    planner: str = Field("usual", description='how it plans: "usual", or a method as of plan --method')
    rate: Positive = Field(20.0, description="steps of the loop a second in rehearsals, Hz; a robot's own may differ")
    replan_period: Positive = Field(1.0, description="time between two looks at whether to plan anew, s")
    plan_age: Positive = Field(6.0, description="age at which a plan is made anew although nothing blocks it, s")
    off_path: Positive = Field(0.4, description="distance from the path at which it is planned anew, m")
    unsettled_speed: Positive = Field(0.3, description="highest speed until localization has settled, m/s")
    manual_hold: Positive = Field(0.5, description="how long a person's command holds in manual mode, s")
    stuck_after: Positive = Field(6.0, description="time without progress after which it recovers, s")
    stuck_progress: NotNegative = Field(0.1, description="what counts as progress, m or radians")
    recovery: list[str] = Field(
        ["wait", "back out", "look around", "forget obstacles", "wait", "wait"],
        description="what it tries in turn when it cannot go on",
    )
