"""A local planner of your own: straight at a point ahead. Run ``python examples/own_local_planner.py ahead.png``."""

import sys

from vinecompass import Command, LocalPlanner, Navigator, Site, demo_file, grid_from_polygons, read_robot, rehearse
from vinecompass.figures import draw_drive, save_figure
from vinecompass.geometry import relative
from vinecompass.links import SimulatedLink


class Ahead(LocalPlanner):  # turns on the spot and the ends of legs are seen to already
    def drive_on(self, view, course, profile):
        ahead, left, _ = relative(course.poses[course.ahead(0.5)], view.pose)
        speed = course.direction * profile.allowed  # as curves, gaps and people allow
        turn_rate = 2.0 * speed * left / max(ahead**2 + left**2, 0.01)
        return self.wanting(view, Command(speed, turn_rate=turn_rate), profile.reason)


robot, corners = read_robot(demo_file("robot.toml")), [(0.0, 0.0), (14.0, 0.0), (14.0, 9.0), (6.0, 9.0), (0.0, 6.0)]
hall = Site(name="hall", start=(2.0, 3.0, 0.0), wall=[{"points": [*corners, corners[0]]}])
grid, link = grid_from_polygons(corners, [], cell_size=0.05), SimulatedLink(hall, robot, seed=1)
mission = rehearse(link, Navigator(grid, robot, link.pose, [11.0, 6.5, 1.57], seed=1, local=Ahead(robot)))
print(mission)
save_figure(draw_drive(grid, mission), sys.argv[1] if sys.argv[1:] else "ahead.png")
