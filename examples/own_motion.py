"""A motion of your own: left turns only. Run ``python examples/own_motion.py left-turns.png``."""

import sys

from vinecompass import DubinsMotion, demo_file, grid_from_polygons, plan_path, price_floor, read_robot
from vinecompass.figures import draw_plan, save_figure


class LeftTurnsOnly(DubinsMotion):
    """Curves forward that never turn right."""

    words = ("LSL",)


hall, press = [[0, 0], [14, 0], [14, 9], [0, 9]], [[6, 3.5], [8, 3.5], [8, 5.5], [6, 5.5]]
robot = read_robot(demo_file("robot.toml"))
costmap = price_floor(grid_from_polygons(hall, [press], 0.05), robot)
start, goal = [2.0, 4.5, 0.0], [12.0, 4.5, 0.0]
plans = [plan_path(costmap, robot, start, goal, motion=kind(0.8)) for kind in (DubinsMotion, LeftTurnsOnly)]
print(plans)
save_figure(draw_plan(costmap, robot, plans[1:], [start, goal]), sys.argv[1] if sys.argv[1:] else "left-turns.png")
