"""A layer of the costmap of your own: a wet floor that costs half as much again. Run with a PNG to write."""

import sys

import numpy as np

from vinecompass import demo_file, grid_from_polygons, price_floor, read_robot
from vinecompass.figures import draw_costs, save_figure


class WetFloor:
    """Charges 1.5 for each cell east of the press: any object with a name, `charge`, and if you like `why`."""

    name = "wet floor"

    def charge(self, grid, robot):
        points = grid.points_of(np.argwhere(np.ones(grid.shape, bool)))
        return np.where(points[:, 0] > 8.0, 1.5, 1.0).astype(np.float32).reshape(grid.shape)


grid = grid_from_polygons([[0, 0], [14, 0], [14, 9], [0, 9]], [[[6, 3.5], [8, 3.5], [8, 5.5], [6, 5.5]]], 0.05)
robot = read_robot(demo_file("robot.toml"))
costmap = price_floor(grid, robot, extra_layers=[WetFloor()])  # Navigator takes layers=[WetFloor()]
print(costmap.explain(12.0, 4.5))
save_figure(draw_costs(costmap, robot), sys.argv[1] if sys.argv[1:] else "wet.png")
