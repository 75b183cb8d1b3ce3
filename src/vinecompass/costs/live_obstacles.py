"""Obstacles that scanners see and the map does not know: entered, erased, and forgotten with age."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs.kernels import pass_beams
from vinecompass.errors import InputError
from vinecompass.geometry import checked_pose
from vinecompass.grids import Beams, Grid, clearance
from vinecompass.robot import Robot

__all__ = ["LiveObstacles"]

NEVER = -np.inf
BRIEFLY = 2.0
"""Seconds for which what may walk away is remembered, and what beams graze and none ends at any longer."""
Window = tuple[NDArray[np.int64], NDArray[np.int64]]


class LiveObstacles:
    """What the robot's scanners see away from everything mapped, and remember when they look elsewhere.

    A cell is entered where a beam ends, erased where a later beam of the same scanner passes, and forgotten once it has
    not been seen for a while, wherever the robot is by then: a crate that turned it back must not be gone as soon as
    it looks the other way. Where beams only graze a cell, it is forgotten soon: few cross the middle of a far one. Each
    scanner has its own record, so that one that looks over a pallet does not erase what another sees of it. It is a
    layer of a costmap.

    Parameters
    ----------
    grid : Grid
    apart : float
        Distance from mapped walls beyond which something seen is an obstacle of its own, m.
    memory : float
        Seconds after which it is forgotten.
    reach : float
        How far from the robot it is entered, m.
    """

    name = "obstacles"

    def __init__(self, grid: Grid, *, apart: float, memory: float, reach: float) -> None:
        self._grid = grid
        self._memory = memory
        self._brief = min(memory, BRIEFLY)
        self._reach = reach
        self._apart = apart
        self._own = (clearance(grid.occupied, grid.cell_size) > apart) & ~grid.occupied
        self._until: dict[str, NDArray[np.float64]] = {}
        self._cells = np.zeros((0, 2), np.int64)
        self._now = 0.0
        self.mask = np.zeros(grid.shape, bool)

    def see(
        self, t: float, pose: ArrayLike, beams: Beams, sensor: str, brief: NDArray[np.bool_] | None = None
    ) -> Window:
        """Take in a scan's beams, from a body at a pose in the site frame.

        Parameters
        ----------
        t : float
            Now, s.
        pose : array_like, (3,)
        beams : Beams
        sensor : str
        brief : array of bool, (N,), optional
            Which beams end on what may walk away: it is forgotten after two seconds.

        Returns
        -------
        first, last : array, (2,)
            Row and column where the cells begin that are an obstacle now and were none before, or the other way
            round, and those after which they end; equal if there are none.

        Raises
        ------
        InputError
            The stamp or the pose is not finite.
        """
        here = checked_pose(pose, f"pose of {sensor!r}")
        if not np.isfinite(t):
            raise InputError("is no stamp", key="t", value=t, expected="seconds")
        grid = self._grid
        self._now = t
        if sensor not in self._until:
            self._until[sensor] = np.full(grid.shape, NEVER)
        first, last = grid.window_about(here[:2], self._reach)
        origins, ends = beams.in_cells(grid, here)
        forget_at = np.full(len(ends), t + self._memory)
        if brief is not None:
            forget_at[brief] = t + self._brief
        low, high = _window_of(self._cells)
        entered = pass_beams(
            self._until[sensor],
            self._own,
            self.mask,
            origins,
            ends,
            beams.hit,
            forget_at,
            t + self._brief,
            first,
            last,
            np.maximum(low, first),
            np.minimum(high, last),
        )
        rows, columns = self._cells.T
        still = np.max([until[rows, columns] for until in self._until.values()], axis=0) >= t
        self.mask[rows[~still], columns[~still]] = False
        changed = np.vstack([self._cells[~still], entered])
        self._cells = np.vstack([self._cells[still], entered])
        return _window_of(changed)

    def open(self, gone: NDArray[np.bool_]) -> None:
        """Take what ends in cells ``(rows, columns)`` of the map that are `gone` for obstacles from now on."""
        stands = self._grid.occupied & ~gone
        self._own = (clearance(stands, self._grid.cell_size) > self._apart) & ~stands

    def forget(self) -> Window:
        """Forget everything seen; returns the window of cells that were an obstacle, as `see` does."""
        forgotten = self._cells
        self._cells = self._cells[:0]
        self.mask[tuple(forgotten.T)] = False
        for until in self._until.values():
            until[:] = NEVER
        return _window_of(forgotten)

    @property
    def points(self) -> NDArray[np.float64]:
        """The centres ``(N, 2)`` of the cells that are obstacles now, in the site frame, m."""
        return self._grid.points_of(self._cells)

    def charge(self, grid: Grid, robot: Robot) -> NDArray[np.float32]:
        """Close the cells where something stands."""
        return np.where(self.mask, np.inf, 1.0).astype(np.float32)

    def why(self, x: float, y: float) -> str:
        """Tell which scanner saw something there, and when it is forgotten unless it is seen again."""
        said = [
            f"seen by {sensor!r}, forgotten in {float(stamp) - self._now:.1f} s unless seen again"
            for sensor, until in self._until.items()
            if (stamp := self._grid.values_at([[x, y]], until, NEVER)[0]) >= self._now
        ]
        return ", ".join(said) or "nothing seen"


def _window_of(cells: NDArray[np.int64]) -> Window:
    """Return row and column where the cells ``(N, 2)`` begin, and those after which they end."""
    if len(cells) == 0:
        return np.zeros(2, np.int64), np.zeros(2, np.int64)
    return cells.min(axis=0), cells.max(axis=0) + 1
