"""What can be tuned about the loop: when it plans anew, and what it tries when it cannot go on."""

from __future__ import annotations

from pydantic import Field

from vinecompass.files import Model, NotNegative, Positive
from vinecompass.settings.tuned import by_factor, tuned

__all__ = ["NavigationSettings"]


class NavigationSettings(Model):
    """The ``[navigation]`` table of the settings."""

    rate: Positive = tuned(
        20.0,
        by_factor(5.0, 50.0),
        "steps of the loop a second in rehearsals, Hz; a robot's own may differ",
        "quick reactions, against computing time",
    )
    replan_period: Positive = tuned(
        1.0,
        by_factor(0.2, 5.0),
        "time between two looks at whether to plan anew, s",
        "computing time, against quick answers to what changed",
    )
    plan_age: Positive = tuned(
        6.0,
        by_factor(1.0, 60.0),
        "age at which a plan is made anew although nothing blocks it, s",
        "steadiness, against plans that follow what changed",
    )
    off_path: Positive = tuned(
        0.4,
        by_factor(0.1, 1.5),
        "distance from the path at which it is planned anew, m",
        "steadiness, against plans from where it is",
    )
    unsettled_speed: Positive = tuned(
        0.3,
        by_factor(0.1, 1.0),
        "highest speed until localization has settled, m/s",
        "time, against care while it is not sure where it is",
    )
    manual_hold: Positive = tuned(
        0.5,
        by_factor(0.1, 2.0),
        "how long a person's command holds in manual mode, s",
        "bad connections, against stopping soon",
    )
    stuck_after: Positive = tuned(
        6.0, by_factor(2.0, 20.0), "time without progress after which it recovers, s", "patience, against time"
    )
    stuck_progress: NotNegative = tuned(
        0.1, by_factor(0.02, 0.5), "what counts as progress, m or radians", "recovering soon, against creeping through"
    )
    recovery: list[str] = Field(
        ["wait", "back out", "look around", "forget obstacles", "wait", "wait"],
        description="what it tries in turn when it cannot go on",
    )
