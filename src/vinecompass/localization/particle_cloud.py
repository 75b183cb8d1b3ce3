"""The cloud of particles: drawn, weighed, and drawn anew."""

from __future__ import annotations

from collections.abc import Callable

import numpy as np
from numpy.typing import NDArray

from vinecompass.localization.clusters import Cluster, find_clusters, with_evidence_between
from vinecompass.localization.kernels import blurred, tempered
from vinecompass.localization.open_direction import spread_along
from vinecompass.localization.resampling import low_variance_sample, particles_needed
from vinecompass.settings import LocalizationSettings

__all__ = ["WORN", "ParticleCloud"]

FloatArray = NDArray[np.float64]
ABOUT = np.array([0.08, 0.08, np.radians(1.5)])
"""Standard deviations at which particles are drawn about a place that was found, m and radians."""
FEWEST_EFFECTIVE = 0.05
"""Share of the particles that still count after a scan: its likelihoods are flattened until they do."""
WORN = 0.5
"""Share of the particles that must count, or they are drawn anew."""
BLUR = 0.2
"""Share of the cloud's standard deviation by which resampled particles are set apart."""


class ParticleCloud:
    """Weighted particles.

    Parameters
    ----------
    particles : array, (N, 3)
        In the site frame, all of one weight.
    settings : LocalizationSettings
    rng : Generator

    Attributes
    ----------
    particles : array, (N, 3)
    weights : array, (N,)
        Sum to 1.
    is_ambiguous : bool
        Whether they may lie in several clusters.
    """

    def __init__(self, particles: FloatArray, settings: LocalizationSettings, rng: np.random.Generator) -> None:
        self._settings = settings
        self._rng = rng
        self.particles = particles
        self.weights = np.full(len(particles), 1.0 / len(particles))
        self.is_ambiguous = False
        self._open_along: FloatArray | None = None
        self._before = self.weights
        """The direction that the last scan left open, and the weights before it, until particles are drawn anew."""

    @property
    def sample_size(self) -> float:
        """The effective sample size, ``1 / sum(weights**2)``."""
        return 1.0 / float(self.weights @ self.weights)

    def clusters(self) -> tuple[list[Cluster], NDArray[np.int64]]:
        """Return the clusters, the heaviest first, and for each particle which it is in, as `find_clusters`."""
        found = find_clusters(self.particles, self.weights)
        self.is_ambiguous = len(found[0]) > 1
        return found

    def draw_about(self, poses: list[FloatArray]) -> None:
        """Put all particles about some poses, as many about each."""
        count = min(self._settings.least_particles * len(poses), self._settings.most_particles)
        self.particles = self._drawn(poses, count)
        self.weights = np.full(count, 1.0 / count)
        self.is_ambiguous = len(poses) > 1

    def draw_half_about(self, pose: FloatArray, open_along: FloatArray | None) -> None:
        """Put every second one of particles that are all alike about a pose, but for a direction ``(2,)`` left open."""
        every_second = self.particles[::2]
        drawn = self._drawn([pose], len(every_second))
        self.particles = self.particles.copy()
        self.particles[::2] = drawn if open_along is None else spread_along(drawn, every_second, open_along)

    def add_about(self, poses: list[FloatArray], share: float) -> None:
        """Put a share of the weight, on particles of their own, about some poses."""
        s = self._settings
        count = max(s.least_particles // 2, round(share * len(self.particles)))
        room = max(s.most_particles - count, 1)
        if len(self.particles) > room:
            kept = low_variance_sample(self.weights, room, self._rng)
            self.particles = self.particles[kept]
            self.weights = np.full(room, 1.0 / room)
        self.particles = np.vstack([self.particles, self._drawn(poses, count)])
        self.weights = np.append((1.0 - share) * self.weights, np.full(count, share / count))
        self._open_along = None
        self.is_ambiguous = True

    def weigh(
        self,
        log_likelihoods: FloatArray,
        evidence_between: Callable[[list[Cluster]], FloatArray],
        *,
        open_along: FloatArray | None = None,
    ) -> None:
        """Multiply the weights by a scan's likelihoods ``(N,)``, given as logarithms.

        Clusters are weighed against each other by the evidence between them, as in `with_evidence_between`. The scan
        may leave one direction ``(2,)`` open, in the site frame: what particles are drawn next spread along it as
        before the scan.
        """
        self._open_along, self._before = open_along, self.weights
        if self.is_ambiguous:
            clusters, labels = find_clusters(self.particles, self.weights)
            evidence = evidence_between(clusters)
            log_likelihoods = with_evidence_between(log_likelihoods, self.weights, labels, evidence)
        # A scan that leaves but a handful of particles says that they lie too far apart for how sharp it is, not that
        # these few are right.
        self.weights = tempered(self.weights, log_likelihoods, FEWEST_EFFECTIVE)

    def resample(self, clusters: list[Cluster], labels: NDArray[np.int64]) -> None:
        """Draw the particles anew: as many as the belief needs, blurred a little.

        The blur, a small share of their cluster's own spread, sets the copies apart (the regularised particle filter
        of Musso, Oudjane and Le Gland, 2001).
        """
        s = self._settings
        drawn = low_variance_sample(self.weights, len(self.weights), self._rng)
        bound = particles_needed(self.particles, drawn, s.count_error)
        count = int(min(max(bound, s.least_particles * len(clusters)), s.most_particles))
        chosen = low_variance_sample(self.weights, count, self._rng)
        spreads = BLUR * np.array([np.sqrt(np.diagonal(cluster.covariance)) for cluster in clusters])
        normals = self._rng.standard_normal((count, 3))
        drawn_anew = blurred(self.particles, chosen, spreads, labels, normals)
        if self._open_along is not None:
            # Of those that the scan does not tell apart, chance would leave fewer and fewer along the line.
            kept = low_variance_sample(self._before, count, self._rng)
            drawn_anew = spread_along(drawn_anew, self.particles[kept], self._open_along)
            self._open_along = None
        self.particles = drawn_anew
        self.weights = np.full(count, 1.0 / count)

    def _drawn(self, poses: list[FloatArray], count: int) -> FloatArray:
        return np.array(poses)[np.arange(count) % len(poses)] + ABOUT * self._rng.standard_normal((count, 3))
