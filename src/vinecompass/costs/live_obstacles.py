"""Obstacles that scanners see and the map does not know: entered, erased, and forgotten with age."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.costs.kernels import pass_beams
from vinecompass.errors import InputError
from vinecompass.geometry import relative, transform_points
from vinecompass.grids import Beams, Grid, clearance
from vinecompass.robot import Robot

__all__ = ["LiveObstacles"]

NEVER = -np.inf
Window = tuple[NDArray[np.int64], NDArray[np.int64]]


class LiveObstacles:
    """What the robot's scanners see away from everything mapped, in a window that moves with the robot.

    A cell is entered where a beam ends, erased where a later beam of the same scanner passes, forgotten once it has not
    been seen for a while, and dropped where the robot has left it behind. Each scanner has its own record, so that
    one that looks over a pallet does not erase what another sees of it. It is a layer of a costmap.

    Parameters
    ----------
    grid : Grid
    apart : float
        Distance from mapped walls beyond which something seen is an obstacle of its own, m.
    memory : float
        Seconds after which it is forgotten.
    reach : float
        How far from the robot it is entered and kept, m.
    """

    name = "obstacles"

    def __init__(self, grid: Grid, *, apart: float, memory: float, reach: float) -> None:
        self._grid, self._memory, self._reach = grid, memory, reach
        self._own = (clearance(grid.occupied, grid.cell_size) > apart) & ~grid.occupied
        self._seen: dict[str, NDArray[np.float64]] = {}
        self._window: Window = (np.zeros(2, np.int64), np.zeros(2, np.int64))
        self._now = 0.0
        self.mask = np.zeros(grid.shape, bool)

    def see(self, t: float, pose: ArrayLike, beams: Beams, sensor: str) -> Window:
        """Take in a scan's beams, from a body at a pose in the site frame.

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
        if not (np.isfinite(t) and np.all(np.isfinite(np.asarray(pose, dtype=float)))):
            raise InputError(
                "is not a pose", key=f"pose of {sensor!r}", value=pose, expected="x, y, heading, all finite"
            )
        grid, self._now = self._grid, t
        if sensor not in self._seen:
            self._seen[sensor] = np.full(grid.shape, NEVER)
        here = grid.window_about(np.asarray(pose, dtype=float)[:2], self._reach)
        first, last = self._joined(here)
        body = relative(pose, grid.frame)
        origins, ends = (transform_points(body, points) / grid.cell_size for points in (beams.origins, beams.ends))
        pass_beams(self._seen[sensor], self._own, origins, ends, beams.hit, here[0], here[1], t)
        window = np.s_[first[0] : last[0], first[1] : last[1]]
        now = np.zeros(tuple(last - first), bool)
        kept = tuple(slice(a, b) for a, b in zip(here[0] - first, here[1] - first, strict=True))
        for seen in self._seen.values():
            now[kept] |= seen[window][kept] >= t - self._memory
            self._drop(seen, here)
        self._window = here
        changed = now != self.mask[window]
        rows = np.flatnonzero(changed.any(axis=1))
        if len(rows) == 0:
            return first, first
        columns = np.flatnonzero(changed.any(axis=0))
        self.mask[window] = now
        return first + (rows[0], columns[0]), first + (rows[-1] + 1, columns[-1] + 1)

    def _drop(self, seen: NDArray[np.float64], here: Window) -> None:
        """Forget what lies in the window as it was, but not as it is now."""
        (top, left), (bottom, right) = self._window
        (row, column), (last_row, last_column) = here
        seen[top : min(row, bottom), left:right] = NEVER
        seen[max(last_row, top) : bottom, left:right] = NEVER
        seen[top:bottom, left : min(column, right)] = NEVER
        seen[top:bottom, max(last_column, left) : right] = NEVER

    def _joined(self, here: Window) -> Window:
        first, last = self._window
        if np.any(first >= last):
            return here
        return np.minimum(first, here[0]), np.maximum(last, here[1])

    def forget(self) -> None:
        """Forget everything seen; the next scan's window covers what is to be priced anew."""
        for seen in self._seen.values():
            seen[:] = NEVER

    @property
    def points(self) -> NDArray[np.float64]:
        """The centres ``(N, 2)`` of the cells that are obstacles now, in the site frame, m."""
        first, last = self._window
        cells = np.argwhere(self.mask[first[0] : last[0], first[1] : last[1]]) + first
        return self._grid.points_of(cells)

    def charge(self, grid: Grid, robot: Robot) -> NDArray[np.float32]:
        """Close the cells where something stands."""
        return np.where(self.mask, np.inf, 1.0).astype(np.float32)

    def why(self, x: float, y: float) -> str:
        """Tell which scanner saw something there, and when."""
        said = [
            f"seen by {sensor!r} {self._now - float(stamp):.1f} s before"
            for sensor, seen in self._seen.items()
            if (stamp := self._grid.values_at([[x, y]], seen, NEVER)[0]) >= self._now - self._memory
        ]
        return ", ".join(said) or "nothing seen"
