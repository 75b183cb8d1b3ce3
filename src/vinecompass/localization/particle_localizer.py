"""The particle filter: many guesses of the pose, moved by the odometry and weighed by the scan."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from pydantic import Field

from vinecompass.errors import InputError
from vinecompass.files import Fraction, Model, NotNegative, Positive, Whole
from vinecompass.geometry import compose, relative, wrap_angle
from vinecompass.grids import Grid, likelihood_field
from vinecompass.localization.kernels import weigh_particles
from vinecompass.odometry import Motion, deskewed_hits
from vinecompass.robot import Robot
from vinecompass.runs import Scan

__all__ = ["Estimate", "LocalizationSettings", "ParticleLocalizer"]

FloatArray = NDArray[np.float64]
SQUARE = 0.15
"""Metres. Of the points in a square of this side, one is weighed."""
BLUR = 0.2
"""Share of the cloud's standard deviation by which resampled particles are set apart."""


class LocalizationSettings(Model):
    """The ``[localization]`` table of the settings."""

    particles: Whole = Field(800, description="a whole number")
    start_particles: Whole = Field(4000, description="how many until settled, a whole number")
    beams: Whole = Field(90, description="how many beams of a scan are weighed, a whole number")
    start_spread: Positive = Field(0.5, description="standard deviation of the initial position, m")
    start_spread_deg: Positive = Field(15.0, description="standard deviation of the initial heading, degrees")
    distance_noise: NotNegative = Field(0.6, description="odometry's error along the way, m per m")
    turn_noise: NotNegative = Field(0.25, description="odometry's error in turning, rad per rad")
    turn_noise_per_metre: NotNegative = Field(0.4, description="odometry's error in heading, rad per m")
    field_spread: Positive = Field(0.07, description="standard deviation of a beam's end about the wall, m")
    stray_share: Fraction = Field(0.2, description="share of beams that end on nothing mapped, 0 to 1")
    beam_trust: Fraction = Field(0.3, description="how far neighbouring beams count as independent, 0 to 1")
    settled_scans: Whole = Field(10, description="scans in a row that must find the particles drawn together")
    settled_spread: Positive = Field(0.08, description="standard deviation at which the position is settled, m")
    settled_agreement: Fraction = Field(0.6, description="and the scan agreeing with the map at least so well, 0 to 1")
    settled_spread_deg: Positive = Field(2.0, description="standard deviation at which the heading is, degrees")


@dataclass(frozen=True)
class Estimate:
    """Where the robot is believed to be.

    Parameters
    ----------
    t : float
        Stamp of the scan, s.
    pose : array, (3,)
        Weighted mean of the particles in the site frame, m and radians.
    covariance : array, (3, 3)
        Of the particles about it, m2, m rad and rad2.
    settled : bool
        Whether the particles have drawn together where the scan agrees with the map. Once settled, it stays so.
    effective_sample_size : float
        ``1 / sum(weights**2)``, before resampling.
    agreement : float
        Mean agreement of the scan's points with the map at `pose`, 0 to 1; `nan` without points.
    """

    t: float
    pose: FloatArray
    covariance: FloatArray
    settled: bool
    effective_sample_size: float
    agreement: float


class ParticleLocalizer:
    """Localizes a robot in a map from a rough initial pose, one scan at a time.

    Parameters
    ----------
    grid : Grid
    robot : Robot
    initial_pose : array_like, (3,)
        In the site frame, m and radians.
    settings : LocalizationSettings, optional
    seed : int
        Same seed, same estimates.

    Attributes
    ----------
    particles : array, (N, 3)
        In the site frame.
    weights : array, (N,)
        Sum to 1.

    Raises
    ------
    InputError
        The map has no occupied cell, or the initial pose lies off it.

    Notes
    -----
    Monte Carlo localization with the likelihood field and the low-variance sampler of Thrun, Burgard and Fox
    (2005), "Probabilistic Robotics", chapters 4, 6 and 8.
    """

    def __init__(
        self,
        grid: Grid,
        robot: Robot,
        initial_pose: ArrayLike,
        *,
        settings: LocalizationSettings | None = None,
        seed: int,
    ) -> None:
        self._grid, self._lidar = grid, robot.scanner
        s = self._settings = settings or LocalizationSettings()
        pose = np.asarray(initial_pose, dtype=float)
        if pose.shape != (3,) or not np.all(np.isfinite(pose)):
            raise InputError("is not a pose", key="initial_pose", value=initial_pose, expected="x, y, heading")
        if not np.any(grid.occupied):
            raise InputError("the map has no occupied cell", expected="a map to compare scans with")
        if not grid.contains(grid.cells_at(pose[None, :2]))[0]:
            raise InputError(
                "lies off the map", key="initial_pose", value=[round(float(v), 3) for v in pose],
                expected="x, y on the map",
            )  # fmt: skip
        self._rng = np.random.default_rng(seed)
        field = likelihood_field(grid.occupied, grid.cell_size, s.field_spread)
        self._agreement_field = field
        self._log_field = np.log((1.0 - s.stray_share) * field + s.stray_share).astype(np.float32)
        spread = np.array([s.start_spread, s.start_spread, np.radians(s.start_spread_deg)])
        self.particles = pose + spread * self._rng.normal(size=(s.start_particles, 3))
        self.weights = np.full(s.start_particles, 1.0 / s.start_particles)
        self._last: Motion | None = None
        self._fits_since = 0
        self._settled = False

    def update(self, scan: Scan, odometry: Motion) -> Estimate:
        """Move the particles by the odometry since the last scan, weigh them by this one, and resample if needed."""
        if self._last is not None:
            self._move(relative(odometry.pose, self._last.pose))
        self._last = odometry
        points = deskewed_hits(scan.ranges, self._lidar, odometry.sweep)
        points = _spread_out(points, self._settings.beams)
        if len(points):
            gained = self._sums(self._log_field, self.particles, points, float(np.log(self._settings.stray_share)))
            self.weights = _tempered(self.weights, gained * self._settings.beam_trust)
        sample_size = 1.0 / float(np.sum(self.weights**2))
        estimate = self._estimate(scan.t, sample_size, points)
        if estimate.settled and len(self.weights) > self._settings.particles:
            self._resample(self._settings.particles, estimate.covariance)
        elif sample_size < 0.5 * len(self.weights):
            self._resample(len(self.weights), estimate.covariance)
        return estimate

    def _move(self, step: FloatArray) -> None:
        """Sample the motion model: the step, its length and turn spoilt in proportion to themselves."""
        s, count = self._settings, len(self.particles)
        length, turn = np.hypot(step[0], step[1]), abs(step[2])
        normals = self._rng.normal(size=(count, 3))
        # The floor of a few tenths of a millimetre keeps the particles apart at standstill.
        along = step[0] + (s.distance_noise * length + 3e-4) * normals[:, 0]
        across = step[1] + (0.1 * s.distance_noise * length + 3e-4) * normals[:, 1]
        turned = step[2] + (s.turn_noise * turn + s.turn_noise_per_metre * length + 3e-4) * normals[:, 2]
        self.particles = compose(self.particles, np.stack([along, across, turned], axis=-1))

    def _sums(self, field: NDArray[np.float32], poses: FloatArray, points: FloatArray, outside: float) -> FloatArray:
        scale = 1.0 / self._grid.cell_size
        local = relative(poses, self._grid.frame)
        local[:, :2] *= scale
        return np.asarray(weigh_particles(field, local, points * scale, outside))

    def _estimate(self, t: float, sample_size: float, points: FloatArray) -> Estimate:
        s, weights, particles = self._settings, self.weights, self.particles
        heading = np.arctan2(weights @ np.sin(particles[:, 2]), weights @ np.cos(particles[:, 2]))
        pose = np.array([*(weights @ particles[:, :2]), heading])
        away = particles - pose
        away[:, 2] = wrap_angle(away[:, 2])
        covariance = (weights[:, None] * away).T @ away
        spread = np.sqrt(max(covariance[0, 0], covariance[1, 1]))
        close = spread < s.settled_spread and np.sqrt(covariance[2, 2]) < np.radians(s.settled_spread_deg)
        agreement = float("nan")
        if len(points):
            agreement = float(self._sums(self._agreement_field, pose[None], points, 0.0)[0]) / len(points)
        fits = close and agreement >= s.settled_agreement
        self._fits_since = self._fits_since + 1 if fits else 0
        self._settled = self._settled or self._fits_since >= s.settled_scans
        return Estimate(t, pose, covariance, self._settled, sample_size, agreement)

    def _resample(self, count: int, covariance: FloatArray) -> None:
        """Draw `count` particles anew, evenly spaced through the cumulated weights, and blur them a little.

        The low-variance sampler copies good particles; the blur, a small share of the cloud's own spread, sets the
        copies apart (the regularised particle filter of Musso, Oudjane and Le Gland, 2001).
        """
        positions = (self._rng.random() + np.arange(count)) / count
        chosen = np.minimum(np.searchsorted(np.cumsum(self.weights), positions), len(self.weights) - 1)
        blur = BLUR * np.sqrt(np.diagonal(covariance)) * self._rng.normal(size=(count, 3))
        self.particles = self.particles[chosen] + blur
        self.weights = np.full(count, 1.0 / count)


def _spread_out(points: FloatArray, most: int) -> FloatArray:
    """Return at most about `most` of a scan's points ``(N, 2)``, spread evenly over what was hit, not over the beams.

    Most beams end on what is near: between two racks they would all but drown the few that see the aisle's end, and
    those alone tell how far along it the robot is.
    """
    squares = np.floor(points / SQUARE).astype(np.int64)
    _, first = np.unique(squares[:, 0] * 1_000_003 + squares[:, 1], return_index=True)
    chosen = points[np.sort(first)]
    return chosen[:: -(-len(chosen) // most) or 1]


def _tempered(weights: FloatArray, log_likelihoods: FloatArray) -> FloatArray:
    """Multiply weights by likelihoods, flattened by halves until a twentieth of the particles still counts.

    A scan that leaves but a handful of particles says that they lie too far apart for how sharp it is, not that
    these few are right.
    """
    gained = log_likelihoods - log_likelihoods.max()
    while True:
        result = weights * np.exp(gained)
        result /= result.sum()
        if 1.0 / np.sum(result**2) >= 0.05 * len(weights):
            return np.asarray(result)
        gained = gained / 2.0
