"""Tuning: settings tried in rehearsals, on the same seeds, and compared; or learned from ways that were shown."""

from vinecompass.tuning.against import Verdict, check_comparison, compare_settings, verdict
from vinecompass.tuning.choosing import choose_settings
from vinecompass.tuning.comparison import Comparison, compare_values
from vinecompass.tuning.designs import DESIGNS, Vary, values_to_try
from vinecompass.tuning.effects import Effect, best_values, effects, mean_cost
from vinecompass.tuning.explain import Explanation, explain
from vinecompass.tuning.front import check_objectives, front
from vinecompass.tuning.mission_case import MissionCase, MissionCases
from vinecompass.tuning.mission_score import MissionScore
from vinecompass.tuning.placed_runs import locate_run
from vinecompass.tuning.plan_case import PlanCase, PlanScore
from vinecompass.tuning.recorded_cases import LocalizationCase, LocalizationScore, MappingCase, MappingScore
from vinecompass.tuning.score import Score
from vinecompass.tuning.search import search_values
from vinecompass.tuning.shown_prices import Compared, ShownPrices, learn_prices
from vinecompass.tuning.shown_ways import ShownWay, read_shown_ways, ways_apart
from vinecompass.tuning.study import Study, StudyRun, read_study
from vinecompass.tuning.trial import Case, Trial
from vinecompass.tuning.unexplained import Unexplained, unexplained_places
from vinecompass.tuning.wants import Answer, Want, answer_wants, passed_places

__all__ = [
    "DESIGNS",
    "Answer",
    "Case",
    "Compared",
    "Comparison",
    "Effect",
    "Explanation",
    "LocalizationCase",
    "LocalizationScore",
    "MappingCase",
    "MappingScore",
    "MissionCase",
    "MissionCases",
    "MissionScore",
    "PlanCase",
    "PlanScore",
    "Score",
    "ShownPrices",
    "ShownWay",
    "Study",
    "StudyRun",
    "Trial",
    "Unexplained",
    "Vary",
    "Verdict",
    "Want",
    "answer_wants",
    "best_values",
    "check_comparison",
    "check_objectives",
    "choose_settings",
    "compare_settings",
    "compare_values",
    "effects",
    "explain",
    "front",
    "learn_prices",
    "locate_run",
    "mean_cost",
    "passed_places",
    "read_shown_ways",
    "read_study",
    "search_values",
    "unexplained_places",
    "values_to_try",
    "verdict",
    "ways_apart",
]
