"""Floor 4: maps from runs, and how true they are."""

from vinecompass.mapping.accuracy import MapAccuracy, measure_map
from vinecompass.mapping.build_map import Mapping, build_map
from vinecompass.mapping.mapper import Mapper
from vinecompass.mapping.settings import MappingSettings

__all__ = ["MapAccuracy", "Mapper", "Mapping", "MappingSettings", "build_map", "measure_map"]
