"""On which side of a person who walks there is room for the robot to pass."""

from __future__ import annotations

from typing import Literal

import numpy as np
from numpy.typing import NDArray

from vinecompass.contact import Walking
from vinecompass.grids import Grid
from vinecompass.robot import Robot

__all__ = ["OTHER_SIDE", "Side", "side_with_room"]

Side = Literal["left", "right"]
OTHER_SIDE: dict[Side, Side] = {"left": "right", "right": "left"}
ROOM = 0.8
"""Metres from a person's middle to the body that make room to pass."""
MET_WITHIN = 3.0
"""Metres of a walk ahead on which the person is met."""
LOOKED_AT_EVERY = 0.2
"""Metres of that walk between two looks."""


def side_with_room(grid: Grid, clearance: NDArray[np.float32], robot: Robot, person: Walking, usual: Side) -> Side:
    """Return the side of a person, as they see it, on which to pass: the usual one, unless only the other has room.

    Parameters
    ----------
    grid : Grid
    clearance : array, (rows, columns)
        Distance from each of its cells to the nearest forbidden one, m.
    robot : Robot
    person : Walking
        Who walks, in the site frame.
    usual : {"left", "right"}

    Examples
    --------
    >>> from vinecompass import demo_file, price_floor, read_robot
    >>> grid, robot = Grid(np.full((100, 200), -3.0, np.float32), cell_size=0.05), read_robot(demo_file("robot.toml"))
    >>> clearance = price_floor(grid, robot).clearance
    >>> [side_with_room(grid, clearance, robot, Walking(5.0, y, velocity_x=1.0), "left") for y in (2.5, 4.2)]
    ['left', 'right']
    """
    heading = np.arctan2(person.velocity_y, person.velocity_x)
    ahead = np.arange(0.0, MET_WITHIN + 0.5 * LOOKED_AT_EVERY, LOOKED_AT_EVERY)

    def has_room(side: Side) -> bool:
        aside = (ROOM + robot.body.inner_radius) * (1.0 if side == "left" else -1.0)
        x = person.x + np.cos(heading) * ahead - np.sin(heading) * aside
        y = person.y + np.sin(heading) * ahead + np.cos(heading) * aside
        free = grid.values_at(np.column_stack([x, y]), clearance, 0.0)
        return bool(np.all(free > robot.body.inner_radius))

    other = OTHER_SIDE[usual]
    return usual if has_room(usual) or not has_room(other) else other
