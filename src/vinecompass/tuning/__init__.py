"""Tuning: settings tried in rehearsals, by a design, on the same seeds, and compared."""

from vinecompass.tuning.choosing import choose_settings
from vinecompass.tuning.comparison import Comparison, compare_values
from vinecompass.tuning.designs import DESIGNS, Vary, values_to_try
from vinecompass.tuning.effects import Effect, best_values, effects, mean_cost
from vinecompass.tuning.explain import MEASURES, Explanation, explain
from vinecompass.tuning.score import Score
from vinecompass.tuning.search import search_values
from vinecompass.tuning.study import Study, StudyRun, read_study
from vinecompass.tuning.trial import Case, Trial, run_trial
from vinecompass.tuning.wants import Answer, Want, answer_wants

__all__ = [
    "DESIGNS",
    "MEASURES",
    "Answer",
    "Case",
    "Comparison",
    "Effect",
    "Explanation",
    "Score",
    "Study",
    "StudyRun",
    "Trial",
    "Vary",
    "Want",
    "answer_wants",
    "best_values",
    "choose_settings",
    "compare_values",
    "effects",
    "explain",
    "mean_cost",
    "read_study",
    "run_trial",
    "search_values",
    "values_to_try",
]
