"""The loop on a robot: what to do at the start, in each cycle, and at the end. The simulator stands in for the robot.

Run ``python examples/on_a_robot.py loop.png``.
"""

import sys

import numpy as np

from vinecompass import (
    Command,
    Navigator,
    SimulatedLink,
    build_map,
    demo_file,
    read_robot,
    read_site,
    record_drive,
    warm_up,
)
from vinecompass.figures import draw_local_plan, save_figure
from vinecompass.navigation import Scene

site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
grid = build_map(record_drive(site, robot, [(36.9, 24.6), (36.9, 18.5), (30.0, 18.5)], seed=1)).grid

# At the start, while the wheels stand: compile everything, then say where the robot is and where it is to go.
# No step waits for a plan, which is made in a thread of its own.
warm_up(robot)
base = SimulatedLink(site, robot, seed=1)
navigator = Navigator(grid, robot, [36.2, 24.4, 0.1], [31.0, 18.5, np.pi], seed=1, plans_beside=True)
navigator.speed_share = 0.8

# In each cycle: hand over the time, the last whole scan and the odometry until now; pass the command on at once.
command = Command()
scenes: list[Scene] = []
while not navigator.over and navigator.t < 60.0:
    readings = base.exchange(command)
    command = navigator.step(readings.t, readings.scans["front"], readings.odometry, readings.people)
    if not scenes and navigator.t > 5.0:
        scenes.append(navigator.scene())
        print(f"{navigator.distance_left:.1f} m and some {navigator.time_left:.0f} s to go")

# At the end it stands; what it says has a reason wherever it is not simply done.
print(navigator.state, navigator.reason, [stop.status for stop in navigator.log.stops])
save_figure(draw_local_plan(grid, robot, scenes[0]), sys.argv[1] if len(sys.argv) > 1 else "loop.png")
