"""Meet a worker who does not look, four times, by the rules for people.

Run ``python examples/pass_a_worker.py passing.png``.
"""

import sys

from vinecompass import Site, demo_file, read_robot, rehearse_mission
from vinecompass.figures import draw_meetings, save_figure
from vinecompass.grids import grid_from_polygons

robot = read_robot(demo_file("robot.toml"))
floor = [(0.0, 0.0), (18.0, 0.0), (18.0, 6.0), (0.0, 6.0)]
grid = grid_from_polygons(floor, [], cell_size=0.05)

missions = []
for seed in range(4):
    # The worker comes the other way, a little otherwise each time, and never gives way.
    y, speed = 2.7 + 0.1 * seed, 0.7 + 0.08 * seed
    worker = {"name": "worker", "route": [(17.0, y), (1.0, y)], "speed": speed, "attention": 0.0, "begin": 0.0}
    hall = Site.model_validate(
        {"name": "hall", "start": (1.5, 3.0, 0.0), "wall": [{"points": [*floor, floor[0]]}], "person": [worker]}
    )
    missions.append(rehearse_mission(hall, robot, grid, [16.0, 3.0, 0.0], seed=seed, time_limit=60.0))
    states = [entry.state for entry in missions[-1].log.encounters]
    print(f"worker at {speed:.2f} m/s: arrived {missions[-1].arrived} after {missions[-1].track.t[-1]:.0f} s, {states}")

save_figure(draw_meetings(grid, missions), sys.argv[1] if len(sys.argv) > 1 else "passing.png")
