"""How far a track is from the truth."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import KDTree

from vinecompass.door import checked
from vinecompass.geometry import compose, distance_along, relative, wrap_angle
from vinecompass.runs.streams import Track

__all__ = ["RelationError", "TrackError", "compare_relations", "compare_tracks"]

RELATION_STEP, NEIGHBOUR_WITHIN = 1.0, 3.0
"""Metres of way between the poses that relations are taken of, and between poses that are related as neighbours."""


@dataclass(frozen=True)
class TrackError:
    """Errors of a track against the truth, both in the same frame; nothing is aligned.

    Parameters
    ----------
    t : array, (N,)
        The track's stamps, s.
    position : array, (N,)
        Distance to the true position, m.
    heading : array, (N,)
        Signed heading error, radians.
    """

    t: NDArray[np.float64]
    position: NDArray[np.float64]
    heading: NDArray[np.float64]

    @property
    def position_rmse(self) -> float:
        """Root mean square of the position errors, m."""
        return float(np.sqrt(np.mean(self.position**2)))

    @property
    def heading_rmse(self) -> float:
        """Root mean square of the heading errors, radians."""
        return float(np.sqrt(np.mean(self.heading**2)))

    def since(self, t: float) -> TrackError:
        """Return the errors from time `t` on."""
        return self.where(self.t >= t)

    def where(self, chosen: NDArray[np.bool_]) -> TrackError:
        """Return the errors at some of the stamps, given as a mask ``(N,)``."""
        return TrackError(self.t[chosen], self.position[chosen], self.heading[chosen])


@checked
def compare_tracks(track: Track, truth: Track) -> TrackError:
    """Compare a track with the truth, interpolated at the track's stamps."""
    true_poses = truth.at(track.t)
    return TrackError(
        track.t,
        np.hypot(*(track.poses[:, :2] - true_poses[:, :2]).T),
        wrap_angle(track.poses[:, 2] - true_poses[:, 2]),
    )


@dataclass(frozen=True)
class RelationError:
    """How true the relations between the poses of a track are, wherever the track as a whole lies.

    Parameters
    ----------
    relations : int
        How many were compared.
    position, heading : float
        Mean absolute errors, m and radians.
    aligned_rmse : float
        Root mean square of the position errors once the whole track is laid over the truth as well as it can be, m.
    """

    relations: int
    position: float
    heading: float
    aligned_rmse: float


@checked
def compare_relations(track: Track, truth: Track) -> RelationError:
    """Compare the relations between the poses of a track with the true ones.

    Related are poses a metre of way apart, each with the next and with all within 3 m, whenever they were: so it
    counts whether a place seen twice is mapped to one place.

    Notes
    -----
    The metric of Kuemmerle et al. (2009), "On measuring the accuracy of SLAM algorithms".
    """
    true = truth.at(track.t)
    way = distance_along(true)
    chosen = np.unique(
        np.searchsorted(way, np.arange(0.0, way[-1] + RELATION_STEP, RELATION_STEP)).clip(max=len(way) - 1)
    )
    poses, true_poses = track.poses[chosen], true[chosen]
    steps = np.stack([np.arange(len(chosen) - 1), np.arange(1, len(chosen))], axis=1)
    pairs = np.unique(
        np.vstack([steps, KDTree(true_poses[:, :2]).query_pairs(NEIGHBOUR_WITHIN, output_type="ndarray")]), axis=0
    )
    first, second = pairs.T
    off = relative(relative(poses[second], poses[first]), relative(true_poses[second], true_poses[first]))
    laid = compose(best_shift(track.poses, true), track.poses)
    return RelationError(
        len(pairs),
        float(np.mean(np.hypot(off[:, 0], off[:, 1]))),
        float(np.mean(np.abs(off[:, 2]))),
        float(np.sqrt(np.mean(np.sum((laid - true)[:, :2] ** 2, axis=1)))),
    )


def best_shift(poses: NDArray[np.float64], true: NDArray[np.float64]) -> NDArray[np.float64]:
    """Return the pose ``(3,)`` of the frame in which positions lie nearest to the true ones (Horn, 1987)."""
    mean, true_mean = poses[:, :2].mean(axis=0), true[:, :2].mean(axis=0)
    (xx, xy), (yx, yy) = (poses[:, :2] - mean).T @ (true[:, :2] - true_mean)
    turn = np.arctan2(xy - yx, xx + yy)
    cosine, sine = np.cos(turn), np.sin(turn)
    return np.append(true_mean - np.array([[cosine, -sine], [sine, cosine]]) @ mean, turn)
