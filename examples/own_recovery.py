"""A recovery of your own: a nudge backwards. Run ``python examples/own_recovery.py nudge.png``."""

import sys

from vinecompass import Command, Navigator, Recovery, Settings, Site, demo_file, grid_from_polygons, read_robot
from vinecompass.figures import draw_drive, save_figure
from vinecompass.links import SimulatedLink
from vinecompass.rehearsal import rehearse


class Nudge(Recovery):
    name, effect, seconds = "nudge", "a wheel in a rut comes free", 0.5

    def next_command(self, now):
        return Command(-0.05)


robot, corners = read_robot(demo_file("robot.toml")), [(0.0, 0.0), (9.0, 0.0), (9.0, 6.0), (0.0, 6.0)]
hall = Site(name="hall", start=(2.0, 3.0, 0.0), wall=[{"points": [*corners, corners[0]]}])
order = Settings.model_validate({"navigation": {"recovery": ["nudge", "wait"]}})
stop, link = [8.7, 3.0, 0.0], SimulatedLink(hall, robot, seed=1)  # too near a wall: no plan, so it tries to recover
grid, parts = grid_from_polygons(corners, [], cell_size=0.05), {"nudge": Nudge}
mission = rehearse(link, Navigator(grid, robot, link.pose, stop, settings=order, recoveries=parts, seed=1))
print(*(f"{entry.t:.2f} s: {entry.state}, {entry.reason}" for entry in mission.log.states), sep="\n")
save_figure(draw_drive(grid, mission), sys.argv[1] if sys.argv[1:] else "nudge.png")
