"""How far a track is from the truth."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import wrap_angle
from vinecompass.runs.streams import Track

__all__ = ["TrackError", "compare_tracks"]


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
        late = self.t >= t
        return TrackError(self.t[late], self.position[late], self.heading[late])


def compare_tracks(track: Track, truth: Track) -> TrackError:
    """Compare a track with the truth, interpolated at the track's stamps."""
    true_poses = truth.at(track.t)
    return TrackError(
        track.t,
        np.hypot(*(track.poses[:, :2] - true_poses[:, :2]).T),
        wrap_angle(track.poses[:, 2] - true_poses[:, 2]),
    )
