"""Price a floor plan drawn in text and plan through it: ``python examples/plan_a_path.py plan.png``."""

import sys

import numpy as np

from vinecompass import Grid, Zone, demo_file, plan_path, price_floor, read_robot
from vinecompass.figures import draw_plan, save_figure

# One character is a square of 0.5 m; '#' is a wall. The top line lies at the highest y.
FLOOR = """
########################
#..........#...........#
#..........#...........#
#..........#...........#
#......................#
#......................#
#..........#...........#
#..........#...........#
####..##########....####
#..........#...........#
#......................#
#......................#
#..........#...........#
########################
"""
walls = np.array([[mark == "#" for mark in line] for line in FLOOR.split()])[::-1]
occupied = np.kron(walls, np.ones((10, 10), dtype=bool))
grid = Grid(np.where(occupied, 4.0, -4.0).astype(np.float32), cell_size=0.05)

robot = read_robot(demo_file("robot.toml"))
wet = Zone(name="wet floor", kind="dear", factor=4.0, polygon=[(5.0, 4.5), (7.0, 4.5), (7.0, 6.5), (5.0, 6.5)])
costmap = price_floor(grid, robot, zones=[wet])
start, goal = np.array([1.5, 5.5, 0.0]), np.array([10.5, 1.5, np.pi / 2])
plan = plan_path(costmap, robot, start, goal)
print(f"{plan.status}: {plan.length:.2f} m, costing {plan.cost:.2f} m" if plan.found else plan.reason)

picture = sys.argv[1] if len(sys.argv) > 1 else "plan.png"
save_figure(draw_plan(costmap, robot, [plan], [start, goal]), picture)
