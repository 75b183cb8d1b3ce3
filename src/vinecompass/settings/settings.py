"""The settings file: one table per stage."""

from __future__ import annotations

from pathlib import Path

from pydantic import Field

from vinecompass.door import checked
from vinecompass.files import Model, find_named, read_model
from vinecompass.settings.costs import CostSettings
from vinecompass.settings.following import BandSettings, FollowingSettings, WindowSettings
from vinecompass.settings.fusion import FusionSettings
from vinecompass.settings.localization import LocalizationSettings
from vinecompass.settings.mapping import MappingSettings
from vinecompass.settings.named_pose import NamedPose
from vinecompass.settings.navigation import NavigationSettings
from vinecompass.settings.people import PeopleSettings
from vinecompass.settings.planning import PlanSettings
from vinecompass.settings.recovery import RecoverySettings
from vinecompass.settings.safety import SafetySettings

__all__ = ["Settings", "read_settings"]


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
    recovery: RecoverySettings = Field(default_factory=RecoverySettings, description="a [recovery] table")
    safety: SafetySettings = Field(default_factory=SafetySettings, description="a [safety] table")
    docks: list[NamedPose] = Field(default_factory=list, alias="dock", description="[[dock]] tables")

    def find_dock(self, name: str) -> NamedPose:
        """Return the dock of that name, or raise `InputError` that lists the known ones."""
        return find_named(self.docks, name, kind="dock", where="the settings")


@checked
def read_settings(path: str | Path) -> Settings:
    """Read a ``settings.toml``; raise `InputError` for an unknown key (naming the nearest known) or a wrong value."""
    return read_model(path, Settings, kind="settings")
