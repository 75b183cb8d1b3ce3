"""How far each source of motion is off: beside the truth, or else beside all of them fused."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np

from vinecompass.fusion.fuse import Fused
from vinecompass.runs import Run, Track, compare_tracks

__all__ = ["SourceError", "compare_sources"]


@dataclass(frozen=True)
class SourceError:
    """How far a track is off another.

    Parameters
    ----------
    end_position, end_heading : float
        At the end, m and radians.
    drift : float
        The position's error at the end as a share of the way.
    position_rmse, heading_rmse : float
        m and radians.
    worst : float
        The largest error of the position, m.
    worst_t, worst_x, worst_y : float
        When, s, and where the track was then, m.
    """

    end_position: float
    end_heading: float
    drift: float
    position_rmse: float
    heading_rmse: float
    worst: float
    worst_t: float
    worst_x: float
    worst_y: float

    @classmethod
    def of(cls, track: Track, reference: Track) -> SourceError:
        """Compare a track with a reference."""
        error = compare_tracks(track, reference)
        worst = int(np.argmax(error.position))
        return cls(
            end_position=float(error.position[-1]),
            end_heading=float(error.heading[-1]),
            drift=float(error.position[-1] / max(reference.length, 1e-9)),
            position_rmse=error.position_rmse,
            heading_rmse=error.heading_rmse,
            worst=float(error.position[worst]),
            worst_t=float(track.t[worst]),
            worst_x=float(track.poses[worst, 0]),
            worst_y=float(track.poses[worst, 1]),
        )


def compare_sources(fused: Fused, run: Run) -> dict[str, SourceError]:
    """Return how far each source alone is off the truth, and the fused track too; or off that where nobody knows it."""
    reference = run.truth or fused.track
    tracks = dict(fused.alone) | ({"fused": fused.track} if run.truth is not None else {})
    return {name: SourceError.of(track, reference) for name, track in tracks.items()}
