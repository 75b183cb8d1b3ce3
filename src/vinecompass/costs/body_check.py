"""Where the body fits: exact checks of its outline, at its heading, against the cells it may not touch."""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray
from scipy import ndimage

from vinecompass.costs.costmap import CostMap
from vinecompass.costs.kernels import first_touch
from vinecompass.geometry import relative, transform_points
from vinecompass.robot import Robot

__all__ = ["body_clearance", "body_touches"]

FARTHEST = 1.5
"""Metres beyond which clearance is not measured: nothing is decided by it there."""


def body_touches(costmap: CostMap, robot: Robot, poses: ArrayLike) -> NDArray[np.int64]:
    """Return, for each pose ``(N, 3)`` in the site frame, a forbidden cell that the body touches there.

    Returns
    -------
    array, (N, 2)
        Row and column of the cell touched, or -1, -1 where the body is clear.
    """
    grid, scale = costmap.grid, 1.0 / costmap.grid.cell_size
    local = relative(np.asarray(poses, dtype=float).reshape(-1, 3), grid.frame)
    local[:, :2] *= scale
    body = robot.body
    flat = first_touch(
        costmap.forbidden, costmap.clearance * np.float32(scale), body.polygon * scale,
        body.inner_radius * scale, body.outer_radius * scale, local,
    )  # fmt: skip
    cells = np.stack(np.divmod(flat, grid.shape[1]), axis=-1)
    cells[flat < 0] = -1
    return cells


def body_clearance(costmap: CostMap, robot: Robot, poses: ArrayLike) -> NDArray[np.float64]:
    """Return the distance from the body's outline to the nearest forbidden cell at each pose ``(N, 3)``, m.

    0 where it touches; farther than 1.5 m counts as 1.5 m.
    """
    stack = np.asarray(poses, dtype=float).reshape(-1, 3)
    result = np.full(len(stack), FARTHEST)
    squares = _forbidden_squares(costmap, stack[:, :2], robot.body.outer_radius + FARTHEST)
    if len(squares) == 0:
        return result
    tree = shapely.STRtree(squares)
    bodies = shapely.polygons(np.stack([transform_points(pose, robot.body.polygon) for pose in stack]))
    (which, _), distances = tree.query_nearest(bodies, max_distance=FARTHEST, return_distance=True, all_matches=False)
    result[which] = distances
    return result


def _forbidden_squares(costmap: CostMap, points: NDArray[np.float64], reach: float) -> NDArray[np.object_]:
    """Return the outermost forbidden cells about some points as Shapely squares in the site frame."""
    grid = costmap.grid
    cells, margin = grid.cells_at(points), int(np.ceil(reach / grid.cell_size))
    first, last = np.maximum(cells.min(0) - margin, 0), np.minimum(cells.max(0) + margin + 1, grid.shape)
    block = costmap.forbidden[first[0] : last[0], first[1] : last[1]]
    outermost = block & ~ndimage.binary_erosion(block)
    half = grid.cell_size / 2.0
    square = transform_points([0.0, 0.0, grid.turn], [[-half, -half], [half, -half], [half, half], [-half, half]])
    return np.asarray(shapely.polygons(grid.points_of(np.argwhere(outermost) + first)[:, None] + square))
