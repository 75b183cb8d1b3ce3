"""Scan matching: where a scan fits best on a growing grid, near a first guess."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.geometry import wrap_angle
from vinecompass.grids import DECIDED, GrowingGrid
from vinecompass.matching.kernels import align_to_walls, best_offset, mean_agreement

__all__ = ["Match", "SearchWindow", "match_scan"]

FloatArray = NDArray[np.float64]
MOST_ITERATIONS = 15
SEARCH_POINTS, ALIGN_POINTS = 120, 200
"""About so many points the search over the window and the alignment look at: more make them slower, hardly truer."""
WALL_REACH, WALL_SCATTER = 0.15, 0.05
"""Metres about a point within which its wall is sought, and off the wall at which the point counts half."""


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
    """

    pose: FloatArray
    speed_error: float
    turn_rate_error: float
    agreement: float
    matched_share: float


def match_scan(
    points: FloatArray, delays: FloatArray, grid: GrowingGrid, guess: ArrayLike, *, window: SearchWindow,
    prior_points: float, doubt_sweep: bool,
) -> Match:  # fmt: skip
    """Fit a scan to a grid: a correlative search over a window, then an alignment of points to walls.

    Parameters
    ----------
    points : array, (N, 2)
        What the beams hit, in the body frame at the scan's stamp, m.
    delays : array, (N,)
        How long after the stamp each of them fired, s.
    grid : GrowingGrid
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
    cells = np.asarray(points, dtype=float) * scale
    first = np.zeros(5)
    first[:3] = np.asarray(guess, dtype=float)
    first[:2] = (first[:2] - grid.corner) * scale
    every = max(len(cells) // SEARCH_POINTS, 1)
    turn_steps = int(np.ceil(window.turn / window.turn_step))
    first[:3], _ = best_offset(
        grid.likelihood, np.ascontiguousarray(cells[::every]), first[:3],
        np.arange(-turn_steps, turn_steps + 1) * window.turn_step, int(np.ceil(window.reach * scale)),
    )  # fmt: skip
    # One point of the prior is as sure as a beam: 0.02 m, against 0.3 m/s and 0.5 rad/s where the sweep is in doubt.
    sweep_weights = [(0.02 / 0.3) ** 2, (0.02 * scale / 0.5) ** 2] if doubt_sweep else [1e9, 1e9]
    weights = np.array([prior_points, prior_points, prior_points * (2.0 * scale) ** 2, *sweep_weights])
    every = max(len(cells) // ALIGN_POINTS, 1)
    solution, matched = align_to_walls(
        grid.log_odds, grid.hit_sums, np.float32(DECIDED), cells[::every], delays[::every], first, weights,
        int(np.ceil(WALL_REACH * scale)), WALL_SCATTER * scale, MOST_ITERATIONS,
    )  # fmt: skip
    # Judge the scan as straightened, not as it came.
    shift = np.column_stack([solution[3] - solution[4] * cells[:, 1], solution[4] * cells[:, 0]])
    agreement = mean_agreement(grid.likelihood, cells + delays[:, None] * shift, solution[:3])
    x, y = solution[:2] * grid.cell_size + grid.corner
    pose = np.array([x, y, wrap_angle(solution[2])])
    return Match(pose, float(solution[3] / scale), float(solution[4]), float(agreement), matched / len(cells[::every]))
