"""A global planner of your own: along a lane drawn by hand. Run ``python examples/own_planner.py own.png``."""

import sys
from itertools import pairwise

import numpy as np

from vinecompass import StraightMotion, Way, demo_file, grid_from_polygons, plan_path, price_floor, read_robot
from vinecompass.figures import draw_plan, save_figure


def along_the_lane(problem, settings, rng):
    """Return a way by two corners of a lane, turning on the spot between its straight legs."""
    corners = [problem.start_pose, [4, 7, 0], [10, 7, 0], problem.goal_pose]
    legs = [StraightMotion().poses(a, b, settings.spacing) for a, b in pairwise(corners)]
    return Way(np.vstack([corners[0], *legs, corners[-1]]))


grid = grid_from_polygons([[0, 0], [14, 0], [14, 9], [0, 9]], [[[6, 3.5], [8, 3.5], [8, 5.5], [6, 5.5]]], 0.05)
robot = read_robot(demo_file("robot.toml"))
costmap, start, goal = price_floor(grid, robot), [2.0, 4.5, 0.0], [12.0, 5.5, 0.0]
plan = plan_path(costmap, robot, start, goal, method=along_the_lane)  # checked; Navigator takes planner=along_the_lane
print(plan)
save_figure(draw_plan(costmap, robot, [plan], [start, goal]), sys.argv[1] if sys.argv[1:] else "own.png")
