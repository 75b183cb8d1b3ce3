"""Floor 3: maps from runs, and how true they are."""

from vinecompass.mapping.accuracy import MapAccuracy, measure_map
from vinecompass.mapping.mapper import Mapper, Mapping, MappingSettings, build_map

__all__ = ["MapAccuracy", "Mapper", "Mapping", "MappingSettings", "build_map", "measure_map"]
