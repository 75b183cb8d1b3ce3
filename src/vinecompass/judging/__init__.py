"""Maps judged by themselves, against each other, and against the truth."""

from vinecompass.judging.accuracy import MapAccuracy, measure_map
from vinecompass.judging.alignment import Alignment, align_maps
from vinecompass.judging.differences import MapComparison, Thing, compare_maps
from vinecompass.judging.misfit import FARTHEST_MISFIT, misfit_of_track, misfits_on_map
from vinecompass.judging.quality import MapQuality, Spot, judge_map

__all__ = [
    "FARTHEST_MISFIT",
    "Alignment",
    "MapAccuracy",
    "MapComparison",
    "MapQuality",
    "Spot",
    "Thing",
    "align_maps",
    "compare_maps",
    "judge_map",
    "measure_map",
    "misfit_of_track",
    "misfits_on_map",
]
