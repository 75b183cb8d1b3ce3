"""Global plans over a priced floor."""

from vinecompass.planning.comparison import Entry, PlannerComparison, Row, compare_planners, entries_of
from vinecompass.planning.curves.motions import DubinsMotion, Motion, ReedsSheppMotion, StraightMotion, usual_motion
from vinecompass.planning.plan import METHODS, Plan, plan_path, plan_round, solve, usual_method
from vinecompass.planning.plan_files import write_plan
from vinecompass.planning.problem import Problem, Way
from vinecompass.planning.search.any_angle import find_any_angle_path
from vinecompass.planning.search.cost_to_go import CostToGo
from vinecompass.planning.search.grid_search import GridPath, find_grid_path
from vinecompass.planning.trees.roadmap import Roadmap
from vinecompass.planning.why.bottleneck import Bottleneck, find_bottleneck
from vinecompass.planning.why.why_not import WhyNot

__all__ = [
    "METHODS",
    "Bottleneck",
    "CostToGo",
    "DubinsMotion",
    "Entry",
    "GridPath",
    "Motion",
    "Plan",
    "PlannerComparison",
    "Problem",
    "ReedsSheppMotion",
    "Roadmap",
    "Row",
    "StraightMotion",
    "Way",
    "WhyNot",
    "compare_planners",
    "entries_of",
    "find_any_angle_path",
    "find_bottleneck",
    "find_grid_path",
    "plan_path",
    "plan_round",
    "solve",
    "usual_method",
    "usual_motion",
    "write_plan",
]
