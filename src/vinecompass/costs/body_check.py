"""Where the body fits: exact checks of its outline, at its heading, against the cells it may not touch."""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs.costmap import CostMap
from vinecompass.costs.kernels import first_touch
from vinecompass.geometry import relative, transform_points
from vinecompass.robot import Robot

__all__ = ["body_clearance", "body_touches"]


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

    0 where it touches; at most 1.5 m is looked for, and farther counts as 1.5 m.
    """
    grid, reach = costmap.grid, robot.body.outer_radius + 1.5
    forbidden = np.argwhere(costmap.forbidden & (costmap.clearance < grid.cell_size))
    centres, half = grid.points_of(forbidden), grid.cell_size / 2.0
    square = np.array([[-half, -half], [half, -half], [half, half], [-half, half]])
    tree = shapely.STRtree(
        shapely.polygons(centres[:, None] + transform_points([0.0, 0.0, grid.turn], square))
    )  # fmt: skip
    result = np.full(len(np.reshape(poses, (-1, 3))), 1.5)
    for i, pose in enumerate(np.asarray(poses, dtype=float).reshape(-1, 3)):
        found = tree.query_nearest(
            shapely.Polygon(transform_points(pose, robot.body.polygon)), max_distance=reach, return_distance=True
        )[1]
        if len(found):
            result[i] = min(float(found[0]), 1.5)
    return result
