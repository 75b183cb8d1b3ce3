"""Floor 4: global plans over a priced floor."""

from vinecompass.planning.bottleneck import Bottleneck, find_bottleneck
from vinecompass.planning.grid_search import GridPath, find_grid_path
from vinecompass.planning.plan import Plan, PlanSettings, plan_path
from vinecompass.planning.plan_files import write_plan

__all__ = [
    "Bottleneck", "GridPath", "Plan", "PlanSettings", "find_bottleneck", "find_grid_path", "plan_path", "write_plan",
]  # fmt: skip
