"""A motion of your own: left turns only. Run ``python examples/plan_left_turns.py left-turns.png``."""

import sys

import numpy as np

from vinecompass import compare_planners, demo_file, grid_from_polygons, price_floor, read_robot
from vinecompass.figures import draw_plan, save_figure
from vinecompass.planning import DubinsMotion, Problem, solve
from vinecompass.settings import PlanSettings


class LeftTurnsOnly(DubinsMotion):
    """Curves forward that never turn right."""

    words = ("LSL",)


hall = [[0, 0], [14, 0], [14, 9], [0, 9]]
press = [[6, 3.5], [8, 3.5], [8, 5.5], [6, 5.5]]
robot = read_robot(demo_file("robot.toml"))
costmap = price_floor(grid_from_polygons(hall, [press], 0.05), robot)
start, goal = np.array([2.0, 4.5, 0.0]), np.array([12.0, 4.5, 0.0])

for motion in (DubinsMotion(radius=0.8), LeftTurnsOnly(radius=0.8)):
    problem = Problem(costmap, robot, start, goal, motion=motion)
    found = compare_planners(problem, ["lattice", "rrt-connect", "rrt-star"], settings=PlanSettings(iterations=5000))
    for row in found.rows:
        told = f"{row.median('cost'):.2f} m in {1000.0 * row.time:.0f} ms" if row.success else row.best.reason
        print(f"{type(motion).__name__:<14} {row.entry.label:<12} {told}")

picture = sys.argv[1] if len(sys.argv) > 1 else "left-turns.png"
save_figure(draw_plan(costmap, robot, [solve(problem, "rrt-star")], [start, goal]), picture)
