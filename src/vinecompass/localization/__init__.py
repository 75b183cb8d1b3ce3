"""Floor 4: where the robot is in a map."""

from vinecompass.localization.localize import Localization, localize
from vinecompass.localization.particle_localizer import Estimate, LocalizationSettings, ParticleLocalizer

__all__ = ["Estimate", "Localization", "LocalizationSettings", "ParticleLocalizer", "localize"]
