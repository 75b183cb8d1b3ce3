"""Where the body fits: exact checks of its outline, at its heading, against the cells it may not touch."""

from __future__ import annotations

from math import cos, sin

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray
from scipy import ndimage

from vinecompass.contact import cells_shape_of
from vinecompass.contact.cell_kernels import first_touch
from vinecompass.costs.costmap import CostMap
from vinecompass.costs.kernels import drive_price
from vinecompass.geometry import transform_points, wrap_angle
from vinecompass.robot import Robot

__all__ = ["BodyCheck", "body_clearance", "body_touches", "standing_robot", "touches_on_the_way"]

INSETS = (0.5, 1.0, 1.5)
"""Cells by which the body is taken narrower where it seems to touch something already."""
LOOKED_AT_EVERY = 0.005
"""Metres that a part of the body moves at most between two looks."""
CLEARANCE_REACH = 1.5
"""Metres beyond which clearance is not measured: nothing is decided by it there."""


class BodyCheck:
    """Checks drives of one robot over one costmap: what the body touches, and what they cost.

    Parameters
    ----------
    costmap : CostMap
    robot : Robot
    """

    def __init__(self, costmap: CostMap, robot: Robot) -> None:
        self._grid = costmap.grid
        self._floor = costmap.floor
        self._body = cells_shape_of(robot.body, self._grid.cell_size)
        self._outer_radius = robot.body.outer_radius

    def touched(self, poses: ArrayLike) -> NDArray[np.int64]:
        """Return, for each pose ``(N, 3)`` in the site frame, the flat index of a forbidden cell touched, or -1."""
        return self._touched(self._local(poses))

    def drive_price(self, poses: ArrayLike) -> float:
        """Return what the way through poses ``(N, 3)`` in the site frame costs the origin, metres-equivalent.

        `inf` where it is closed, or goes against a one-way zone.
        """
        return float(drive_price(self._floor, self._local(poses))) * self._grid.cell_size

    def price(self, poses: ArrayLike) -> float:
        """Return what it costs the whole body to drive through poses: `inf`, too, where it would touch at one."""
        local = self._local(poses)
        total = float(drive_price(self._floor, local)) * self._grid.cell_size
        return total if np.isinf(total) or np.all(self._touched(local) < 0) else float("inf")

    def touched_along(self, poses: ArrayLike) -> NDArray[np.int64] | None:
        """Return the first cell ``(row, column)`` that the body touches at poses ``(N, 3)`` or between them, or None.

        Between two poses it goes and turns evenly; see `between`.
        """
        flat = self.touched(self.between(poses))
        hits = np.flatnonzero(flat >= 0)
        return np.array(divmod(int(flat[hits[0]]), self._grid.shape[1])) if len(hits) else None

    def between(self, poses: ArrayLike) -> NDArray[np.float64]:
        """Return poses ``(N, 3)`` and as many between them as it takes to miss nothing that the body may touch.

        No part of it moves by more than 5 mm from one to the next; where the middle of the body is farther from
        everything than its farthest corner, nothing is put between.
        """
        poses = np.asarray(poses, dtype=float).reshape(-1, 3)
        steps = np.diff(poses, axis=0)
        steps[:, 2] = wrap_angle(steps[:, 2])
        moved = np.hypot(steps[:, 0], steps[:, 1]) + self._outer_radius * np.abs(steps[:, 2])
        room = self._grid.values_at(poses[:-1, :2], self._floor.cells.clearance, 0.0)
        near = room < self._outer_radius + moved + self._grid.cell_size
        counts = np.where(near, np.maximum(np.ceil(moved / LOOKED_AT_EVERY), 1.0), 1.0).astype(int)
        first = np.repeat(np.arange(len(steps)), counts)
        shares = (np.arange(len(first)) - np.repeat(np.cumsum(counts) - counts, counts)) / counts[first]
        return np.vstack([poses[first] + shares[:, None] * steps[first], poses[-1:]])

    def _touched(self, local: NDArray[np.float64]) -> NDArray[np.int64]:
        return np.asarray(first_touch(self._floor.cells, self._body, local))

    def _local(self, poses: ArrayLike) -> NDArray[np.float64]:
        # Planners come here for every edge: plain arithmetic, a fifth of the time of `compose`.
        stack, (x, y, turn) = np.asarray(poses, dtype=float).reshape(-1, 3), self._grid.frame.tolist()
        scale, local = 1.0 / self._grid.cell_size, np.empty_like(stack)
        cosine, sine = scale * cos(turn), scale * sin(turn)
        dx, dy = stack[:, 0] - x, stack[:, 1] - y
        local[:, 0] = cosine * dx + sine * dy
        local[:, 1] = cosine * dy - sine * dx
        local[:, 2] = stack[:, 2] - turn
        return local


def body_touches(costmap: CostMap, robot: Robot, poses: ArrayLike) -> NDArray[np.int64]:
    """Return, for each pose ``(N, 3)`` in the site frame, a forbidden cell that the body touches there.

    Returns
    -------
    array, (N, 2)
        Row and column of the cell touched, or -1, -1 where the body is clear.
    """
    flat = BodyCheck(costmap, robot).touched(poses)
    cells = np.stack(np.divmod(flat, costmap.grid.shape[1]), axis=-1)
    cells[flat < 0] = -1
    return cells


def standing_robot(costmap: CostMap, robot: Robot, pose: ArrayLike) -> Robot:
    """Return the robot, its body narrower by as little as it takes to touch nothing where it stands ``(3,)``.

    A cell is forbidden as a whole for a corner that reaches into it, and the estimate is off by centimetres: what seems
    to touch already must not pin the robot. No narrower than by a cell and a half, though it may touch even so.
    """
    standing, half = robot, 0.5 * robot.body.inner_radius
    for inset in INSETS:
        if BodyCheck(costmap, standing).touched(pose)[0] < 0:
            break
        standing = robot.widened(-min(inset * costmap.grid.cell_size, half))
    return standing


def touches_on_the_way(costmap: CostMap, robot: Robot, poses: ArrayLike) -> bool:
    """Tell whether the body touches something at one of the poses ``(N, 3)`` that it does not touch at the first.

    What it touches where it stands is not what its way leads it into; see `standing_robot`.
    """
    stack = np.asarray(poses, dtype=float).reshape(-1, 3)
    touched = BodyCheck(costmap, standing_robot(costmap, robot, stack[0])).touched(stack) >= 0
    return bool(not touched[0] and np.any(touched))


def body_clearance(costmap: CostMap, robot: Robot, poses: ArrayLike) -> NDArray[np.float64]:
    """Return the distance from the body's outline to the nearest forbidden cell at each pose ``(N, 3)``, m.

    0 where it touches; farther than 1.5 m counts as 1.5 m.
    """
    stack = np.asarray(poses, dtype=float).reshape(-1, 3)
    result = np.full(len(stack), CLEARANCE_REACH)
    squares = _forbidden_squares(costmap, stack[:, :2], robot.body.outer_radius + CLEARANCE_REACH)
    if len(squares) == 0:
        return result
    tree = shapely.STRtree(squares)
    bodies = shapely.polygons(np.stack([transform_points(pose, robot.body.polygon) for pose in stack]))
    (which, _), distances = tree.query_nearest(
        bodies, max_distance=CLEARANCE_REACH, return_distance=True, all_matches=False
    )
    result[which] = distances
    return result


def _forbidden_squares(costmap: CostMap, points: NDArray[np.float64], reach: float) -> NDArray[np.object_]:
    """Return the outermost forbidden cells about some points as Shapely squares in the site frame."""
    grid = costmap.grid
    cells, margin = grid.cells_at(points), int(np.ceil(reach / grid.cell_size))
    # One row and column of cells beyond each edge stand for the floor off the map.
    first = np.clip(cells.min(0) - margin, -1, grid.shape)
    last = np.clip(cells.max(0) + margin + 1, 0, np.array(grid.shape) + 1)
    low, high = np.maximum(first, 0), np.minimum(last, grid.shape)
    block = np.full(last - first, costmap.closed_beyond)
    block[low[0] - first[0] : high[0] - first[0], low[1] - first[1] : high[1] - first[1]] = costmap.forbidden[
        low[0] : high[0], low[1] : high[1]
    ]
    outermost = block & ~ndimage.binary_erosion(block)
    half = grid.cell_size / 2.0
    square = transform_points([0.0, 0.0, grid.turn], [[-half, -half], [half, -half], [half, half], [-half, half]])
    return np.asarray(shapely.polygons(grid.points_of(np.argwhere(outermost) + first)[:, None] + square))
