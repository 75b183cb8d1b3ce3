"""Every stage's settings, below everything that reads them: meaning, unit, bounds and default stand here once."""

from vinecompass.settings.catalogue import (
    TunableSetting,
    Value,
    changed_settings,
    differing_values,
    find_setting,
    tunable_settings,
)
from vinecompass.settings.costs import CostSettings, Fall, Unknown
from vinecompass.settings.following import BandSettings, FollowingSettings, WindowSettings
from vinecompass.settings.fusion import FusionSettings
from vinecompass.settings.localization import LocalizationSettings
from vinecompass.settings.mapping import MappingSettings
from vinecompass.settings.named_pose import NamedPose
from vinecompass.settings.navigation import NavigationSettings
from vinecompass.settings.people import Approach, PeopleRule, PeopleSettings
from vinecompass.settings.planning import PlanSettings
from vinecompass.settings.recovery import RecoverySettings
from vinecompass.settings.safety import SafetySettings
from vinecompass.settings.settings import Settings, read_settings
from vinecompass.settings.settings_text import settings_text

__all__ = [
    "Approach",
    "BandSettings",
    "CostSettings",
    "Fall",
    "FollowingSettings",
    "FusionSettings",
    "LocalizationSettings",
    "MappingSettings",
    "NamedPose",
    "NavigationSettings",
    "PeopleRule",
    "PeopleSettings",
    "PlanSettings",
    "RecoverySettings",
    "SafetySettings",
    "Settings",
    "TunableSetting",
    "Unknown",
    "Value",
    "WindowSettings",
    "changed_settings",
    "differing_values",
    "find_setting",
    "read_settings",
    "settings_text",
    "tunable_settings",
]
