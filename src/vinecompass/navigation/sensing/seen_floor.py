"""Which floor near the robot has been seen to be free, and when: no body goes where no sensor has looked."""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray

from vinecompass.contact import samples_of_sweep, shape_of
from vinecompass.geometry import compose, transform_points
from vinecompass.grids import Beams, Grid
from vinecompass.navigation.sensing.seen_kernels import CELL, CELLS, any_unseen, keep_points, mark_beams, mark_points
from vinecompass.robot import Robot

__all__ = ["SeenFloor"]

FloatArray = NDArray[np.float64]
KEPT_FOR = 60.0
"""Seconds for which floor out of sight counts as seen."""
FRESH_FOR = 1.0
"""Seconds for which floor counts that the scanner has in view: it sees it again in every scan, or is blind there."""
EDGE_OF_VIEW = np.radians(3.0)
"""Radians by which what the scanner has in view is taken narrower than it is."""
SPACING = 0.08
"""Metres into which a body's sides are cut to be asked about, and that it moves at most from one pose to the next."""
STARTING_ROOM = 0.05
"""Metres about the circle in which the body turns that are taken on trust where it is put down."""


class SeenFloor:
    """Keeps cells of floor in the odometry's frame, each with the time at which it was last seen to be free.

    Where the robot starts, or was carried to, it trusts that it can turn, as far as the map does not say otherwise: a
    scanner in front never sees what a tail swings over.

    Parameters
    ----------
    robot : Robot
    """

    def __init__(self, robot: Robot) -> None:
        lidar = robot.scanner
        middle, half = lidar.view
        self._mount = lidar.mount_pose
        self._view = middle, half if half >= np.pi - EDGE_OF_VIEW else half - EDGE_OF_VIEW
        self._body = shape_of(robot.body)
        self._rim = _along(robot.body.polygon)
        self._inside = _inside(robot.body.polygon)
        self._circle = _inside(_circle(robot.body.outer_radius + STARTING_ROOM))
        self._cells = np.full((CELLS, CELLS, 3), -np.inf)

    def put_down(self, t: float, pose: FloatArray, grid: Grid, site_pose: FloatArray | None) -> None:
        """Forget all, and take on trust that the body can turn at a pose ``(3,)`` in the odometry's frame.

        `site_pose` is where that is on the map, None where it is not known.
        """
        self._cells[:] = -np.inf
        points = self._circle
        if site_pose is not None:
            points = points[~grid.values_at(transform_points(site_pose, points), grid.occupied, False)]
        mark_points(self._cells, t, transform_points(pose, points))

    def see(self, t: float, pose: FloatArray, beams: Beams) -> None:
        """Take in what beams passed over that were cast from a pose ``(3,)`` in the odometry's frame."""
        mark_beams(self._cells, t, transform_points(pose, beams.origins), transform_points(pose, beams.ends))

    def stand(self, t: float, pose: FloatArray) -> None:
        """Take in that the body stands at a pose ``(3,)`` in the odometry's frame: what it stands on stays seen."""
        keep_points(self._cells, t, transform_points(pose, self._inside))

    def hidden(self, t: float, pose: FloatArray, radius: float) -> FloatArray:
        """Return points ``(N, 2)`` of floor about a pose ``(3,)`` that was not seen; all in the odometry frame."""
        middle, reach = np.floor(pose[1::-1] / CELL).astype(np.int64), int(radius / CELL)
        rows, columns = (at + np.arange(-reach, reach + 1) for at in middle.tolist())
        rows, columns = np.meshgrid(rows, columns, indexing="ij")
        cells = self._cells[rows % CELLS, columns % CELLS]
        seen = (cells[..., 0] > t - KEPT_FOR) & (cells[..., 1] == rows) & (cells[..., 2] == columns)
        quarters = np.array([(x, y) for x in (0.25, 0.75) for y in (0.25, 0.75)])
        corners = np.column_stack([columns[~seen], rows[~seen]])
        return CELL * (corners[:, None] + quarters).reshape(-1, 2)

    def unseen(self, t: float, pose: FloatArray, step: FloatArray, velocity: FloatArray, seconds: float) -> bool:
        """Tell whether the body comes over floor that was not seen, keeping a velocity ``(3,)`` for some seconds.

        It begins a `step` ``(3,)`` on from its pose ``(3,)`` in the odometry's frame.
        """
        samples = samples_of_sweep(self._body, velocity, seconds, SPACING)
        oldest = t - FRESH_FOR, t - KEPT_FOR
        begin = compose(pose, step)
        return bool(
            any_unseen(self._cells, oldest, pose, begin, self._rim, velocity, seconds, samples, self._mount, self._view)
        )


def _along(outline: FloatArray) -> FloatArray:
    """Return points along an outline, less than twice `SPACING` apart."""
    sides = [
        begin + (end - begin) * np.linspace(0.0, 1.0, max(int(np.hypot(*(end - begin)) / SPACING), 1) + 1)[:-1, None]
        for begin, end in zip(outline, np.roll(outline, -1, axis=0), strict=True)
    ]
    return np.vstack(sides)


def _inside(outline: FloatArray) -> FloatArray:
    """Return points along an outline and all over its inside, half a `CELL` apart."""
    step = 0.5 * CELL
    first, last = np.floor(outline.min(axis=0) / step), np.ceil(outline.max(axis=0) / step)
    columns, rows = (step * (np.arange(begin, end) + 0.5) for begin, end in zip(first, last, strict=True))
    middles = np.stack(np.meshgrid(columns, rows), axis=-1).reshape(-1, 2)
    return np.vstack([_along(outline), middles[shapely.contains_xy(shapely.Polygon(outline), *middles.T)]])


def _circle(radius: float) -> FloatArray:
    angles = np.linspace(0.0, 2.0 * np.pi, 24, endpoint=False)
    return radius * np.column_stack([np.cos(angles), np.sin(angles)])
