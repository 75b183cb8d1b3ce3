"""What every planner is asked, and what each of them finds."""

from __future__ import annotations

from dataclasses import dataclass, field
from functools import cached_property

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import BodyShape, cells_shape_of
from vinecompass.costs import BodyCheck, CostMap, PricedFloor
from vinecompass.door import checked
from vinecompass.geometry import compose, inverse, transform_points
from vinecompass.planning.curves.motions import Motion, StraightMotion, usual_motion
from vinecompass.planning.search.grid_search import Cells
from vinecompass.robot import Robot

__all__ = ["Problem", "Way"]

FloatArray = NDArray[np.float64]


@checked
@dataclass(frozen=True)
class Problem:
    """From where to where, over which floor, with which robot.

    Parameters
    ----------
    costmap : CostMap
    robot : Robot
    start, goal : array_like, (3,)
        In the site frame, m and radians.
    motion : Motion, optional
        Straight lines or curves; what the robot's drive can do, if not given.

    Raises
    ------
    InputError
        A pose is not finite or lies off the map.
    """

    costmap: CostMap
    robot: Robot
    start: ArrayLike
    goal: ArrayLike
    motion: Motion | None = None
    start_pose: FloatArray = field(init=False)
    goal_pose: FloatArray = field(init=False)

    def __post_init__(self) -> None:
        object.__setattr__(self, "start_pose", self.costmap.grid.pose_on_map(self.start, "start"))
        object.__setattr__(self, "goal_pose", self.costmap.grid.pose_on_map(self.goal, "goal"))

    @cached_property
    def check(self) -> BodyCheck:
        """Checks the body on this floor."""
        return BodyCheck(self.costmap, self.robot)

    @cached_property
    def steering(self) -> Motion:
        """The motion given, or the robot's usual one."""
        return self.motion or usual_motion(self.robot)

    @property
    def turns_on_the_spot(self) -> bool:
        """Whether it moves along straight lines, turning between them."""
        return isinstance(self.steering, StraightMotion)

    @cached_property
    def ends(self) -> tuple[Cells, Cells]:
        """The cells of start and goal."""
        first, last = self.costmap.grid.cells_at(np.stack([self.start_pose[:2], self.goal_pose[:2]]))
        return (int(first[0]), int(first[1])), (int(last[0]), int(last[1]))

    @cached_property
    def floor(self) -> PricedFloor:
        """What kernels want of the floor."""
        return self.costmap.floor

    @cached_property
    def body(self) -> BodyShape:
        """What kernels want of the body, in cells."""
        return cells_shape_of(self.robot.body, self.costmap.grid.cell_size)

    def to_cells(self, points: ArrayLike) -> FloatArray:
        """Return site points ``(N, 2)`` in cells, column before row, as kernels want them."""
        grid = self.costmap.grid
        return transform_points(inverse(grid.frame), points) / grid.cell_size

    def to_site(self, points: ArrayLike) -> FloatArray:
        """Return points in cells ``(N, 2)``, column before row, in the site frame."""
        grid = self.costmap.grid
        return transform_points(grid.frame, np.asarray(points, dtype=float) * grid.cell_size)

    def poses_to_cells(self, poses: ArrayLike) -> FloatArray:
        """Return site poses ``(..., 3)`` in cells and the grid's frame."""
        side = self.costmap.grid.cell_size
        return compose(inverse(self.costmap.grid.frame), poses) / (side, side, 1.0)

    def poses_to_site(self, poses: ArrayLike) -> FloatArray:
        """Return poses in cells ``(..., 3)`` in the site frame."""
        side = self.costmap.grid.cell_size
        return compose(self.costmap.grid.frame, np.asarray(poses, dtype=float) * (side, side, 1.0))


@dataclass(frozen=True)
class Way:
    """What a planner found; one of your own need give no more than the poses.

    Parameters
    ----------
    poses : array, (N, 3)
        From start to goal in the site frame; empty if there is no way, or none was found.
    expanded : int
        Cells or nodes whose neighbours were looked at.
    iterations : int
        Samples drawn, or times a grid was searched.
    explored : array, (M, 2)
        Where it looked, in the site frame.
    tree : array, (K, 2, 2)
        The edges of its tree or roadmap, in the site frame.
    exhausted : bool
        Whether it looked everywhere that it can: without a way, then, there is none for it.
    """

    poses: FloatArray
    expanded: int = 0
    iterations: int = 0
    explored: FloatArray = field(default_factory=lambda: np.zeros((0, 2)))
    tree: FloatArray = field(default_factory=lambda: np.zeros((0, 2, 2)))
    exhausted: bool = False
