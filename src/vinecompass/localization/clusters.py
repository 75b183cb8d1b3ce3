"""Clusters of particles: each is one answer to where the robot is, and averaging two of them would be none."""

from __future__ import annotations

from dataclasses import dataclass
from math import hypot, sqrt

import numpy as np
from numpy.typing import NDArray
from scipy.sparse import coo_array
from scipy.sparse.csgraph import connected_components
from scipy.spatial import KDTree

from vinecompass.localization.kernels import cloud_moments

__all__ = ["Cluster", "find_clusters", "whole_cloud", "with_evidence_between"]

FloatArray = NDArray[np.float64]
CLUSTERS_APART, TURNED_APART = 0.5, np.radians(20.0)
"""Metres and radians: particles farther apart than this, with none in between, belong to two clusters."""
SIZE = np.array([CLUSTERS_APART, CLUSTERS_APART, TURNED_APART])
WINNER = 0.9
"""Weight from which the heaviest cluster stands for the belief."""
FEWEST_PARTICLES = 0.005
"""Weight below which a cluster is not told of."""


@dataclass(frozen=True)
class Cluster:
    """Particles that lie together.

    Parameters
    ----------
    pose : array, (3,)
        Their weighted mean, in the site frame, m and radians.
    covariance : array, (3, 3)
        Of them about it, m2, m rad and rad2.
    weight : float
        Their share of all weight, 0 to 1: how much is to be said for this answer.
    """

    pose: FloatArray
    covariance: FloatArray
    weight: float

    @property
    def wins(self) -> bool:
        """Whether it stands for the belief."""
        return self.weight >= WINNER

    @property
    def spread(self) -> float:
        """Standard deviation of the position along the longer axis of its ellipse, m."""
        (xx, xy), (_, yy) = self.covariance[:2, :2].tolist()
        return sqrt(0.5 * (xx + yy) + hypot(0.5 * (xx - yy), xy))


def find_clusters(particles: FloatArray, weights: FloatArray) -> tuple[list[Cluster], NDArray[np.int64]]:
    """Return the clusters of particles ``(N, 3)``, the heaviest first, and for each particle which it is in.

    Particles in clusters that are too light to be told of belong to -1.
    """
    pose, covariance, extent, weight = cloud_moments(particles, weights)
    if np.all(extent < SIZE):
        return [Cluster(pose, covariance, weight)], np.zeros(len(particles), np.int64)
    labels = _labels(particles)
    heavy = np.bincount(labels, weights)
    order = np.argsort(-heavy, kind="stable")
    told = order[heavy[order] >= min(FEWEST_PARTICLES, heavy.max())]
    rank = np.full(len(heavy), -1)
    rank[told] = np.arange(len(told))
    return [whole_cloud(particles[labels == k], weights[labels == k]) for k in told], rank[labels]


def _labels(particles: FloatArray) -> NDArray[np.int64]:
    """Return which cluster each particle is in."""
    # Of the many particles, one stands for each bin; a bin has the size within which all lie together.
    bins = np.floor(particles / SIZE * 2.0).astype(np.int64)
    bins -= bins.min(axis=0)
    wide = bins.max(axis=0) + 1
    keys, first, inverse = np.unique(
        (bins[:, 0] * wide[1] + bins[:, 1]) * wide[2] + bins[:, 2], return_index=True, return_inverse=True
    )
    # Headings as points on a circle, scaled so that an arc of one cluster's width is as long as its metres.
    headings, radius = particles[first, 2], CLUSTERS_APART / TURNED_APART
    places = np.column_stack([particles[first, :2], radius * np.cos(headings), radius * np.sin(headings)])
    pairs = KDTree(places).query_pairs(CLUSTERS_APART, output_type="ndarray")
    links = coo_array((np.ones(len(pairs)), (pairs[:, 0], pairs[:, 1])), shape=(len(keys), len(keys)))
    return np.asarray(connected_components(links, directed=False)[1][inverse], dtype=np.int64)


def with_evidence_between(
    log_likelihoods: FloatArray, weights: FloatArray, labels: NDArray[np.int64], evidence: FloatArray
) -> FloatArray:
    """Return log-likelihoods ``(N,)`` that compare particles within each cluster, and clusters by other evidence.

    Two aisles that look alike differ by how rough their walls came out in the map. That difference is the same in
    every scan, so scans that tell it again and again are no evidence. The `evidence` ``(K,)`` is the logarithm of how
    many times likelier a scan is from each cluster than from the first.
    """
    result = log_likelihoods.copy()
    for label in np.unique(labels):
        one = labels == label
        best = float(log_likelihoods[one].max())
        share = weights[one] / max(float(weights[one].sum()), 1e-300)
        of_cluster = best + float(np.log(max(share @ np.exp(log_likelihoods[one] - best), 1e-300)))
        result[one] += (evidence[label] if 0 <= label < len(evidence) else 0.0) - of_cluster
    return result


def whole_cloud(particles: FloatArray, weights: FloatArray) -> Cluster:
    """Return particles ``(N, 3)`` as one cluster, wherever they lie."""
    pose, covariance, _, weight = cloud_moments(particles, weights)
    return Cluster(pose, covariance, weight)
