"""Compiles everything that a loop will need before the wheels turn: a drive through a made-up room, in no time."""

from __future__ import annotations

import numpy as np

from vinecompass.contact import Walking
from vinecompass.door import checked
from vinecompass.geometry import arc, compose
from vinecompass.grids import MapRays, grid_from_polygons
from vinecompass.navigation.navigator import Navigator
from vinecompass.robot import Robot
from vinecompass.runs import Scan, Track
from vinecompass.settings import Settings

__all__ = ["warm_up"]

ROOM = 20.0
"""Metres: the side of the room."""
PERIOD = 0.1
"""Seconds between two of its steps."""
STEPS = 60


@checked
def warm_up(robot: Robot, settings: Settings | None = None) -> int:
    """Drive a robot through a made-up room, past a person and a crate, so that every kernel is compiled.

    A first step may otherwise take a minute. Call it once in a process, before its loop begins.

    Returns
    -------
    int
        Steps made.

    Examples
    --------
    >>> from vinecompass import demo_file, read_robot
    >>> warm_up(read_robot(demo_file("robot.toml")))
    60
    """
    middle, lidar = 0.5 * ROOM, robot.scanner
    pillars = [[(x, y), (x + 0.4, y), (x + 0.4, y + 0.4), (x, y + 0.4)] for x in (5.0, 9.0, 14.0) for y in (4.0, 13.0)]
    crate = [(middle + 4.0, middle - 0.3), (middle + 4.4, middle - 0.3), (middle + 4.4, middle + 0.3)]
    walls = [(0.0, 0.0), (ROOM, 0.0), (ROOM, ROOM), (0.0, ROOM)]
    known = grid_from_polygons(walls, pillars, cell_size=0.05)
    true = MapRays(grid_from_polygons(walls, [*pillars, crate], cell_size=0.05))
    stamps, poses = [0.0], [np.array([middle - 4.0, middle, 0.4])]
    navigator = Navigator(known, robot, poses[0], [middle + 6.0, middle + 2.0, 1.0], settings=settings, seed=0)
    rng = np.random.default_rng(0)
    for step in range(STEPS):
        t, pose = stamps[-1], poses[-1]
        ranges = true.ranges(compose(pose, lidar.mount_pose)[None], lidar.beam_angles, farthest=lidar.farthest)[0]
        scan = Scan(t, (ranges + rng.normal(0.0, 0.01, lidar.beams)).astype(np.float32))
        people = [Walking(pose[0] + 2.5, pose[1] + 0.8, -0.8, 0.0)] if step % 3 else []
        if step == STEPS // 2:
            navigator.relocate(pose)
        now = t + PERIOD
        # Until the next step it is taken to stand.
        odometry = Track(np.array([*stamps, now]), np.array([*poses, pose]))
        command = navigator.step(now, scan, odometry, people)
        stamps.append(now)
        poses.append(compose(pose, arc(command.velocity, PERIOD)))
    return STEPS
