"""Floor 5: the navigator, live obstacles, safety, and the settings of every stage."""

from vinecompass.navigation.navigator import Navigator
from vinecompass.navigation.safety import SafetySettings, safe_command
from vinecompass.navigation.settings import NavigationSettings, Settings, read_settings

__all__ = ["NavigationSettings", "Navigator", "SafetySettings", "Settings", "read_settings", "safe_command"]
