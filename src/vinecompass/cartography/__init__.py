"""Floor 3: maps laid over each other, compared and judged."""

from vinecompass.cartography.alignment import Alignment, align_maps
from vinecompass.cartography.differences import Comparison, Thing, compare_maps
from vinecompass.cartography.quality import MapQuality, Spot, judge_map

__all__ = ["Alignment", "Comparison", "MapQuality", "Spot", "Thing", "align_maps", "compare_maps", "judge_map"]
