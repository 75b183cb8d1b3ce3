"""Scan matching: where a scan fits best on a grid of walls, near a first guess."""

from __future__ import annotations

from dataclasses import dataclass
from math import atan2, cos, hypot, sin

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.geometry import wrap_angle
from vinecompass.geometry.kernels import ONE_SPOT_REACH, ONE_SPOT_SHARE, heaviest_share
from vinecompass.matching.kernels import align_to_walls, best_offset, mean_agreement
from vinecompass.matching.wall_grid import WallGrid, oriented_cells

__all__ = ["Match", "SearchWindow", "match_scan"]

FloatArray = NDArray[np.float64]
MOST_ITERATIONS = 15
SEARCH_POINTS, ALIGN_POINTS = 120, 200
"""About so many points the search over the window and the alignment look at: more make them slower, hardly truer."""
WALL_REACH, WALL_SCATTER = 0.15, 0.05
"""Metres about a point within which its wall is sought, and off the wall at which the point counts half."""
LEAST_SCATTER, POINTS_ALIKE = 0.01, 4.0
"""Metres that points scatter by at least, and how many of them err together, since they see the same walls."""
PLAINEST, WEAK, HELD = 0.05, 0.2, 300.0
"""Share of what the clearest direction tells below which the least clear one counts as plain, and below which it
does if it rests on one spot; and how many points the guess weighs as there if nothing tells."""
AWAY_COST = 0.002
"""Share of its agreement that an offset loses for each squared cell away from the guess."""


@dataclass(frozen=True)
class SearchWindow:
    """What the search tries about the guess: `reach` metres each way and `turn` radians each way."""

    reach: float
    turn: float
    turn_step: float


@dataclass(frozen=True)
class Match:
    """Where a scan fits.

    Parameters
    ----------
    pose : array, (3,)
        The body's pose at the scan's stamp in the grid's frame, m and radians.
    speed_error, turn_rate_error : float
        What the sweep lacked, m/s and rad/s: by so much the body was faster, and turned faster, than the points
        were straightened for. Nearly 0 unless the match was allowed to doubt the odometry.
    agreement : float
        Mean of the grid's likelihood field at the scan's points, 0 to 1.
    matched_share : float
        Share of the points aligned that lie by a wall of the grid, 0 to 1.
    scatter : float
        Root mean square distance of these points from their walls, m.
    information : array, (3, 3)
        The inverse of the pose's covariance by the points alone; singular if there is a direction they do not show.
    unseen : array, (2, 2)
        How little the points show the position: for a direction d of length 1, ``d @ unseen @ d`` is 0 where they
        show it well and 1 where they do not show it at all, as along a plain aisle; there the guess stands.
    """

    pose: FloatArray
    speed_error: float
    turn_rate_error: float
    agreement: float
    matched_share: float
    scatter: float
    information: FloatArray
    unseen: FloatArray

    @property
    def covariance(self) -> FloatArray:
        """Of the pose ``(3, 3)``, by the points alone: what they do not show is not known to a metre, or a radian."""
        return np.asarray(np.linalg.inv(self.information + np.eye(3)), dtype=float)


def match_scan(
    points: NDArray[np.floating],
    delays: FloatArray,
    grid: WallGrid,
    guess: ArrayLike,
    *,
    window: SearchWindow,
    prior_points: float,
    doubt_sweep: bool,
) -> Match:
    """Fit a scan to a grid: a correlative search over a window, then an alignment of points to walls.

    Parameters
    ----------
    points : array, (N, 2) or (N, 4)
        What the beams hit, in the body frame at the scan's stamp, m; as oriented points they are not taken for what
        the grid shows of the other side of a thin wall.
    delays : array, (N,)
        How long after the stamp each of them fired, s.
    grid : WallGrid
    guess : array_like, (3,)
        The body's pose as the odometry has it.
    window : SearchWindow
    prior_points : float
        How firmly the alignment holds on to the guess: as so many points 2 m away would. It decides only where
        the scan itself does not (along a plain aisle).
    doubt_sweep : bool
        Whether the odometry may be wrong about the motion during the sweep, as when wheels slip. Then the scan
        may be bent, and speed and turn rate are fitted with the pose.

    Notes
    -----
    The search follows Olson (2009), "Real-time correlative scan matching"; the alignment is point-to-line
    (Censi, 2008), the lines being fitted to the mean hits in the grid's cells, so that neither the raster nor the
    sparse hits on far walls draw the scan along a wall.
    """
    scale = 1.0 / grid.cell_size
    cells = oriented_cells(points[:, :2] * scale, points)
    start = np.zeros(5)
    start[:3] = np.asarray(guess, dtype=float)
    start[:2] = (start[:2] - grid.corner) * scale
    first = start.copy()
    first[:3] = _searched(cells, grid, start[:3], window)
    # One point of the prior is as sure as a beam: 0.02 m, against 0.3 m/s and 0.5 rad/s where the sweep is in doubt.
    sweep_weights = [(0.02 / 0.3) ** 2, (0.02 * scale / 0.5) ** 2] if doubt_sweep else [1e9, 1e9]
    prior = np.diag([prior_points, prior_points, prior_points * (2.0 * scale) ** 2, *sweep_weights])
    every = max(len(cells) // ALIGN_POINTS, 1)
    some, some_delays = np.ascontiguousarray(cells[::every]), np.ascontiguousarray(delays[::every])

    def aligned() -> tuple[FloatArray, int, FloatArray, float, FloatArray]:
        return align_to_walls(
            grid.hit_sums,
            some,
            some_delays,
            first,
            start,
            prior,
            int(np.ceil(WALL_REACH * scale)),
            WALL_SCATTER * scale,
            MOST_ITERATIONS,
        )

    solution, matched, information, mean_square, walls = aligned()
    unseen = _unseen(information, walls, ONE_SPOT_REACH * scale)
    if prior_points > 0.0 and np.any(unseen):
        # What little shows the position along a plain aisle may be one person walking: the guess weighs more there.
        prior[:2, :2] += HELD * unseen
        first = solution.copy()
        first[:2] += unseen @ (start[:2] - first[:2])
        solution, matched, information, mean_square, _ = aligned()
    # Judge the scan as straightened, not as it came.
    if doubt_sweep:
        shift = np.column_stack([solution[3] - solution[4] * cells[:, 1], solution[4] * cells[:, 0]])
        cells[:, :2] += delays[:, None] * shift
    agreement = mean_agreement(grid.field, cells, solution[:3])
    x, y = solution[:2] * grid.cell_size + grid.corner
    scatter = float(np.sqrt(mean_square)) * grid.cell_size
    units = np.array([1.0, 1.0, grid.cell_size])
    variance = POINTS_ALIKE * max(scatter, LEAST_SCATTER) ** 2
    return Match(
        pose=np.array([x, y, wrap_angle(solution[2])]),
        speed_error=float(solution[3] / scale),
        turn_rate_error=float(solution[4]),
        agreement=float(agreement),
        matched_share=matched / len(some),
        scatter=scatter,
        information=information * np.outer(units, units) / variance,
        unseen=unseen,
    )


def _searched(cells: FloatArray, grid: WallGrid, start: FloatArray, window: SearchWindow) -> FloatArray:
    """Return the pose ``(3,)`` in a window about the start at which a scan agrees best with a grid, all in cells."""
    every = -(-len(cells) // SEARCH_POINTS)
    turn_steps = int(np.ceil(window.turn / window.turn_step))
    # From the guess outwards: a good start lets most of the rest be given up early.
    turns = sorted(range(-turn_steps, turn_steps + 1), key=abs)
    reach = int(np.ceil(window.reach * (1.0 / grid.cell_size)))
    some = np.ascontiguousarray(cells[::every])
    pose, _ = best_offset(grid.field, some, start, np.array(turns) * window.turn_step, reach, AWAY_COST)
    return np.asarray(pose)


def _unseen(information: FloatArray, walls: FloatArray, small: float) -> FloatArray:
    """Return how little points show the position ``(2, 2)``, from their information on the pose and their walls."""
    (xx, xy), (_, yy) = information[:2, :2].tolist()
    # The eigenvalues of a symmetric 2 x 2 matrix, and the direction of the smaller.
    middle, spread = 0.5 * (xx + yy), hypot(0.5 * (xx - yy), xy)
    if middle <= 0.0:
        return np.eye(2)
    share = (middle - spread) / (middle + spread)
    angle = 0.5 * atan2(2.0 * xy, xx - yy)
    direction = np.array((-sin(angle), cos(angle)))
    if share > WEAK:
        return np.zeros((2, 2))
    # What shows it may be a single small thing, as a person walking by is.
    if share > PLAINEST:
        shown = (walls[:, 2:] @ direction) ** 2
        if heaviest_share(np.ascontiguousarray(walls[:, :2]), shown, small) <= ONE_SPOT_SHARE:
            return np.zeros((2, 2))
    return np.outer(direction, direction) * (1.0 - share / WEAK) ** 2
