"""Map the loading dock, then drive a mission in it by that map: ``python examples/drive_a_mission.py drive.png``."""

import sys

import numpy as np

from vinecompass import build_map, demo_file, read_robot, read_site, record_drive, rehearse
from vinecompass.figures import draw_drive, save_figure

site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
run = record_drive(site, robot, [(36.9, 24.6), (36.9, 18.5), (29.0, 18.5)], seed=1)
grid = build_map(run).grid

goal = np.array([31.0, 18.4, np.pi])
told = site.start_pose + [0.4, -0.3, np.radians(15.0)]  # where the robot is told that it starts: roughly right
mission = rehearse(site, robot, grid, goal, initial_pose=told, zones=site.zone, seed=2)
print(f"arrived: {mission.arrived}, {mission.position_error:.3f} m off by the truth, {mission.contacts} contacts")

picture = sys.argv[1] if len(sys.argv) > 1 else "drive.png"
save_figure(draw_drive(grid, mission), picture)
