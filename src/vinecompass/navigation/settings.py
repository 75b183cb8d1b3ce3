"""The settings file: one table per stage."""

from __future__ import annotations

from pathlib import Path

from pydantic import Field

from vinecompass.costs import CostSettings
from vinecompass.files import Model, NotNegative, Positive, find_named, read_model
from vinecompass.following import BandSettings, FollowingSettings, PeopleSettings, WindowSettings
from vinecompass.fusion import FusionSettings
from vinecompass.grids import NamedPose
from vinecompass.localization import LocalizationSettings
from vinecompass.mapping import MappingSettings
from vinecompass.navigation.recovery import RecoveryKind
from vinecompass.navigation.safety_settings import SafetySettings
from vinecompass.planning import PlanSettings

__all__ = ["NavigationSettings", "Settings", "read_settings"]


class NavigationSettings(Model):
    """The ``[navigation]`` table of the settings."""

    replan_period: Positive = Field(1.0, description="time between two looks at whether to plan anew, s")
    plan_age: Positive = Field(6.0, description="age at which a plan is made anew although nothing blocks it, s")
    off_path: Positive = Field(0.4, description="distance from the path at which it is planned anew, m")
    unsettled_speed: Positive = Field(0.3, description="highest speed until localization has settled, m/s")
    stuck_after: Positive = Field(6.0, description="time without progress after which it recovers, s")
    stuck_progress: NotNegative = Field(0.1, description="what counts as progress, m or radians")
    recovery: list[RecoveryKind] = Field(
        ["wait", "back out", "look around", "forget obstacles", "wait", "wait"],
        description="what it tries in turn when it cannot go on",
    )


class Settings(Model):
    """What can be tuned, stage by stage; every table and key may be left out."""

    fusion: FusionSettings = Field(default_factory=FusionSettings, description="a [fusion] table")
    mapping: MappingSettings = Field(default_factory=MappingSettings, description="a [mapping] table")
    localization: LocalizationSettings = Field(default_factory=LocalizationSettings, description="a table")
    costs: CostSettings = Field(default_factory=CostSettings, description="a [costs] table")
    planning: PlanSettings = Field(default_factory=PlanSettings, description="a [planning] table")
    following: FollowingSettings = Field(default_factory=FollowingSettings, description="a [following] table")
    window: WindowSettings = Field(default_factory=WindowSettings, description="a [window] table")
    band: BandSettings = Field(default_factory=BandSettings, description="a [band] table")
    people: PeopleSettings = Field(default_factory=PeopleSettings, description="a [people] table")
    navigation: NavigationSettings = Field(default_factory=NavigationSettings, description="a [navigation] table")
    safety: SafetySettings = Field(default_factory=SafetySettings, description="a [safety] table")
    dock: list[NamedPose] = Field(default_factory=list, description="[[dock]] tables")

    def find_dock(self, name: str) -> NamedPose:
        """Return the dock of that name, or raise `InputError` that lists the known ones."""
        return find_named(self.dock, name, kind="dock", where="the settings")


def read_settings(path: str | Path) -> Settings:
    """Read a ``settings.toml``; raise `InputError` for an unknown key (naming the nearest known) or a wrong value."""
    return read_model(path, Settings, kind="settings")
