"""Localize a whole recorded run in a map."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.door import checked
from vinecompass.fusion import usual_fusion
from vinecompass.geometry import chi_square_bound, distance_along
from vinecompass.grids import Grid
from vinecompass.localization.estimate import Estimate, Snapshot
from vinecompass.localization.particle_localizer import ParticleLocalizer
from vinecompass.localization.second_opinion import SecondOpinion
from vinecompass.localization.state import StateChange
from vinecompass.odometry import swept_scans
from vinecompass.runs import Run, Track, cleaned
from vinecompass.settings import LocalizationSettings

__all__ = ["Localization", "localize"]

FloatArray = NDArray[np.float64]
SNAPSHOT_WAYS = (0.0, 0.5, 2.0)
"""Metres of travel after which the filter is kept for drawing, besides whenever its state changed and at the end."""


@dataclass(frozen=True)
class Localization:
    """Where the robot was during a run, and how sure that is.

    Parameters
    ----------
    track : Track
        One pose per scan with its covariance and its state, in the site frame.
    ways : array, (N,)
        The way travelled by each scan, by the odometry, m.
    agreements : array, (N,)
        Share of each scan's beams that agree with the map, 0 to 1.
    changes : list of StateChange
        The first state, and every other from when it began.
    settled_at : int or None
        Index of the first estimate that is tracked; None if none ever was.
    counts : array, (N,)
        How many particles there were.
    drifts : array, (N, 3)
        The track frame's origin in the site frame, at each scan.
    first_particles : array, (M, 3)
        The particles before the first scan.
    snapshots : list of Snapshot
        The filter while it settles, whenever its state changed, and at the end, for drawing.
    second_opinion : SecondOpinion or None
        On the initial pose, if one was given.
    notes : tuple of str
        What was left out of the run, and why.
    """

    track: Track
    ways: FloatArray
    agreements: FloatArray
    changes: list[StateChange]
    settled_at: int | None
    counts: NDArray[np.int64]
    drifts: FloatArray
    first_particles: FloatArray
    snapshots: list[Snapshot]
    second_opinion: SecondOpinion | None
    notes: tuple[str, ...]

    @property
    def settled_after(self) -> float:
        """The way travelled until settled, m; `inf` if never."""
        if self.settled_at is None:
            return float("inf")
        return float(self.ways[self.settled_at])

    @property
    def mean_agreement(self) -> float:
        """Mean of the agreements of those scans on which the map had a say, 0 to 1; `nan` if there is none."""
        known = self.agreements[np.isfinite(self.agreements)]
        return float(known.mean()) if len(known) else float("nan")

    @property
    def spreads(self) -> FloatArray:
        """Standard deviations ``(N, 2)`` of position (along the ellipse's longer axis, m) and heading (radians)."""
        covariances = self.covariances
        longer = np.linalg.eigvalsh(covariances[:, :2, :2])[:, -1]
        return np.sqrt(np.stack([longer, covariances[:, 2, 2]], axis=-1))

    @property
    def covariances(self) -> FloatArray:
        """Of the track's poses ``(N, 3, 3)``, m2, m rad and rad2."""
        assert self.track.covariances is not None
        return self.track.covariances

    def states(self) -> NDArray[np.str_]:
        """Return the state at each scan ``(N,)``."""
        assert self.track.states is not None
        return self.track.states

    @property
    def tracked(self) -> NDArray[np.bool_]:
        """At which scans ``(N,)`` it was tracking: said to be right."""
        return np.asarray(self.states() == "tracking")

    def inside_ellipse(self, truth: Track, share: float = 0.95) -> NDArray[np.bool_]:
        """Tell for each scan ``(N,)`` whether the true position lies in the ellipse that should hold such a share."""
        off = (truth.at(self.track.t) - self.track.poses)[:, :2, None]
        squared = off.transpose(0, 2, 1) @ np.linalg.inv(self.covariances[:, :2, :2]) @ off
        return np.asarray(squared[:, 0, 0] <= chi_square_bound(share, 2))


@checked
def localize(
    grid: Grid,
    run: Run,
    initial_pose: ArrayLike | None = None,
    *,
    odometry: Track | None = None,
    settings: LocalizationSettings | None = None,
    seed: int = 0,
    watch: Callable[[ParticleLocalizer, Estimate], None] | None = None,
    progress: Callable[[float, str], None] | None = None,
) -> Localization:
    """Localize a run in a map: `ParticleLocalizer.update` over its scans.

    Parameters
    ----------
    grid : Grid
    run : Run
        With scans. It may be as recorded: rows that are not finite or out of order are left out and noted.
    initial_pose : array_like, (3,), optional
        In the site frame, m and radians; it may be rough. If not given, the whole map is searched.
    odometry : Track, optional
        In the track frame; all that the run holds, fused, if not given (`vinecompass.fusion.usual_odometry`).
    settings : LocalizationSettings, optional
    seed : int
    watch : callable, optional
        Called with the localizer and its estimate after each scan, as for a film.
    progress : callable, optional
        Called with the share done, 0 to 1, and a word.

    Raises
    ------
    InputError
        The run has no scans, or the initial pose lies off the map or inside a wall.
    """
    run, left_out = cleaned(run)
    stamps = run.scan_stamps()
    track = odometry
    if track is None:
        fused = usual_fusion(run)
        track, left_out = fused.track, (*left_out, *fused.notes)
    localizer = ParticleLocalizer(grid, run.robot, initial_pose, settings=settings, seed=seed)
    first_particles = localizer.particles
    ways = distance_along(track.at(stamps))
    count = len(stamps)
    poses, covariances, drifts = np.empty((count, 3)), np.empty((count, 3, 3)), np.empty((count, 3))
    agreements, counts = np.empty(count), np.empty(count, np.int64)
    states: list[str] = []
    changes: list[StateChange] = []
    snapshots: list[Snapshot] = []
    settled_at = None
    for i, (scan, motion) in enumerate(swept_scans(run, track)):
        estimate = localizer.update(scan, motion)
        poses[i] = estimate.pose
        covariances[i] = estimate.covariance
        states.append(estimate.state)
        drifts[i] = estimate.drift.pose
        agreements[i], counts[i] = estimate.agreement, estimate.particles
        changed = not changes or changes[-1].state != estimate.state
        if changed:
            changes.append(StateChange(scan.t, estimate.state, estimate.reason))
        due = len(snapshots) < len(SNAPSHOT_WAYS) and ways[i] >= SNAPSHOT_WAYS[len(snapshots)]
        if due or changed or i == count - 1:
            snapshots.append(localizer.snapshot())
        if settled_at is None and estimate.settled:
            settled_at = i
        if watch is not None:
            watch(localizer, estimate)
        if progress and i % 50 == 0:
            progress(i / count, "localizing")
    return Localization(
        Track(stamps, poses, covariances, np.array(states)),
        ways,
        agreements,
        changes,
        settled_at,
        counts,
        drifts,
        first_particles,
        snapshots,
        localizer.second_opinion,
        left_out,
    )
