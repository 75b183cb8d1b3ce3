"""Global plans over a priced floor."""

from vinecompass.planning.comparison import Entry, PlannerComparison, Row, compare_planners, entries_of
from vinecompass.planning.curves.motions import DubinsMotion, Motion, ReedsSheppMotion, StraightMotion, usual_motion
from vinecompass.planning.goals import Goal
from vinecompass.planning.methods import METHODS, Planner, check_method, name_of, usual_method
from vinecompass.planning.narrow.narrow_places import NarrowPlace, find_narrow_places
from vinecompass.planning.plan import Plan
from vinecompass.planning.plan_files import write_plan
from vinecompass.planning.plan_path import clearance_along, plan_path, plan_round, solve
from vinecompass.planning.problem import Problem, Way
from vinecompass.planning.search.any_angle import find_any_angle_path
from vinecompass.planning.search.cost_to_go import CostToGo
from vinecompass.planning.search.grid_search import GridPath, find_grid_path
from vinecompass.planning.search.prepared_floor import PreparedFloor
from vinecompass.planning.trees.roadmap import Roadmap
from vinecompass.planning.why.bottleneck import Bottleneck, find_bottleneck
from vinecompass.planning.why.reason import WhyNot

__all__ = [
    "METHODS",
    "Bottleneck",
    "CostToGo",
    "DubinsMotion",
    "Entry",
    "Goal",
    "GridPath",
    "Motion",
    "NarrowPlace",
    "Plan",
    "Planner",
    "PlannerComparison",
    "PreparedFloor",
    "Problem",
    "ReedsSheppMotion",
    "Roadmap",
    "Row",
    "StraightMotion",
    "Way",
    "WhyNot",
    "check_method",
    "clearance_along",
    "compare_planners",
    "entries_of",
    "find_any_angle_path",
    "find_bottleneck",
    "find_grid_path",
    "find_narrow_places",
    "name_of",
    "plan_path",
    "plan_round",
    "solve",
    "usual_method",
    "usual_motion",
    "write_plan",
]
