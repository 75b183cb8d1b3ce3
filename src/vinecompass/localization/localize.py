"""Localize a whole recorded run in a map."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.geometry import distance_along
from vinecompass.grids import Grid
from vinecompass.localization.particle_localizer import LocalizationSettings, ParticleLocalizer
from vinecompass.odometry import motions, odometry_track
from vinecompass.runs import Run, Track

__all__ = ["Localization", "localize"]


@dataclass(frozen=True)
class Localization:
    """Where the robot was during a run, and how sure that is.

    Parameters
    ----------
    track : Track
        One pose per scan, in the site frame.
    spreads : array, (N, 2)
        Standard deviations of position (the larger of x and y, m) and heading (radians).
    agreements : array, (N,)
        Mean agreement of each scan with the map, 0 to 1.
    settled_at : int or None
        Index of the first estimate with settled particles; None if they never settled.
    clouds : list of (t, particles)
        The particles ``(N, 3)`` at the first scan and every few metres of travel after, for drawing.
    """

    track: Track
    spreads: NDArray[np.float64]
    agreements: NDArray[np.float64]
    settled_at: int | None
    clouds: list[tuple[float, NDArray[np.float64]]]

    @property
    def settled_after(self) -> float:
        """The way travelled until settled, m; `inf` if never."""
        if self.settled_at is None:
            return float("inf")
        return float(distance_along(self.track.poses)[self.settled_at])


def localize(
    grid: Grid,
    run: Run,
    initial_pose: ArrayLike,
    *,
    settings: LocalizationSettings | None = None,
    seed: int = 0,
    progress: Callable[[float, str], None] | None = None,
) -> Localization:
    """Localize a run in a map from a rough initial pose: `ParticleLocalizer.update` over its scans.

    Parameters
    ----------
    grid : Grid
    run : Run
        With scans, and odometry or wheels.
    initial_pose : array_like, (3,)
        In the site frame, m and radians.
    settings : LocalizationSettings, optional
    seed : int
    progress : callable, optional
        Called with the share done, 0 to 1, and a word.

    Raises
    ------
    InputError
        The run has no scans or no odometry, or the initial pose lies off the map.
    """
    scans, odometry = run.need_scans(), odometry_track(run)
    localizer = ParticleLocalizer(grid, run.robot, initial_pose, settings=settings, seed=seed)
    clouds = [(float(scans.t[0]), localizer.particles)]
    travelled = distance_along(odometry.at(scans.t))
    next_cloud = 2.0
    estimates = []
    for i, (scan, motion) in enumerate(zip(scans, motions(odometry, scans, run.robot.scanner), strict=True)):
        estimates.append(localizer.update(scan, motion))
        if travelled[i] >= next_cloud:
            clouds.append((scan.t, localizer.particles))
            next_cloud += 8.0
        if progress and i % 50 == 0:
            progress(i / len(scans), "localizing")
    covariances = np.array([estimate.covariance for estimate in estimates])
    variances = np.diagonal(covariances, axis1=1, axis2=2)
    settled = [estimate.settled for estimate in estimates]
    return Localization(
        track=Track(scans.t, np.array([estimate.pose for estimate in estimates])),
        spreads=np.sqrt(np.stack([variances[:, :2].max(axis=1), variances[:, 2]], axis=-1)),
        agreements=np.array([estimate.agreement for estimate in estimates]),
        settled_at=settled.index(True) if any(settled) else None,
        clouds=clouds,
    )
