"""Price a hall with zones, a person and a layer of your own: ``python examples/price_a_floor.py layers.png``."""

import sys
from dataclasses import dataclass

import numpy as np

from vinecompass import Grid, Robot, Zone, demo_file, find_narrow_places, grid_from_polygons, price_floor, read_robot
from vinecompass.contact import Walking
from vinecompass.figures import draw_layers, save_figure


@dataclass(frozen=True)
class Ramp:
    """Floor that rises to the east costs more the steeper it is."""

    slope: np.ndarray
    name: str = "ramp"

    def charge(self, grid: Grid, robot: Robot) -> np.ndarray:
        """Charge the climb."""
        return (1.0 + 8.0 * self.slope).astype(np.float32)

    def why(self, x: float, y: float) -> str:
        """Say so."""
        return "a ramp" if x > 10.0 else "level"


hall = [[0, 0], [16, 0], [16, 10], [0, 10]]
racks = [[[4, 2], [5, 2], [5, 8], [4, 8]], [[5.85, 2], [7, 2], [7, 8], [5.85, 8]]]
grid, robot = grid_from_polygons(hall, racks, 0.05), read_robot(demo_file("robot.toml"))
zones = [
    Zone(name="wash bay", kind="slow", speed=0.4, polygon=[(11, 6), (15, 6), (15, 9), (11, 9)]),
    Zone(name="pit", kind="closed", polygon=[(8, 1), (9, 1), (9, 2), (8, 2)]),
]
columns = grid.points_of(np.argwhere(np.ones(grid.shape, bool)))[:, 0].reshape(grid.shape)
costmap = price_floor(
    grid,
    robot,
    zones=zones,
    people=[Walking(8.0, 5.0, 0.0, 1.1)],
    extra_layers=[Ramp(np.where(columns > 10.0, 0.1, 0.0))],
)
for name, charge in costmap.explain(12.0, 7.0).items():
    print(f"{name:<10} {charge}")
for place in find_narrow_places(costmap, robot):
    print(place)
save_figure(draw_layers(costmap), sys.argv[1] if len(sys.argv) > 1 else "layers.png")
