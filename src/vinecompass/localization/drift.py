"""Where the track frame lies in the site frame: corrected smoothly, so that nothing that steers by it jumps."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose, inverse, relative

__all__ = ["Drift", "DriftFollower"]

FloatArray = NDArray[np.float64]
CORRECTED_WITHIN = 0.5
"""Seconds in which most of a correction is made."""
FASTEST_SHIFT, FASTEST_TURN = 0.15, np.radians(8.0)
"""Metres and radians a second by which the robot is ever shifted."""
ANEW, ANEW_TURN = 1.0, np.radians(30.0)
"""Metres and radians beyond which the robot was elsewhere all along: the transform begins anew."""


@dataclass(frozen=True)
class Drift:
    """The transform from the track frame to the site frame.

    Parameters
    ----------
    t : float
        Its stamp, s.
    pose : array, (3,)
        The track frame's origin in the site frame: ``compose(pose, odometry_pose)`` is the robot in the site.
    began : float
        Since when it has moved smoothly, s. Later than before: the robot was found elsewhere, and what was planned
        in the track frame must be planned anew.
    """

    t: float
    pose: FloatArray
    began: float


class DriftFollower:
    """Follows estimates of the pose with a transform that moves the robot by 0.15 m a second at most."""

    def __init__(self) -> None:
        self.drift: Drift | None = None

    def update(self, t: float, estimate: FloatArray, odometry: FloatArray) -> Drift:
        """Take in where the robot is in the site and in the track frame ``(3,)`` at a time."""
        if self.drift is not None:
            smooth = compose(self.drift.pose, odometry)
            error = relative(estimate, smooth)
            away = float(np.hypot(error[0], error[1]))
            if away <= ANEW and abs(error[2]) <= ANEW_TURN:
                duration = max(t - self.drift.t, 0.0)
                share = 1.0 - np.exp(-duration / CORRECTED_WITHIN)
                share_way = min(share, FASTEST_SHIFT * duration / max(away, 1e-12))
                share_turn = min(share, FASTEST_TURN * duration / max(abs(error[2]), 1e-12))
                corrected = compose(smooth, error * [share_way, share_way, share_turn])
                self.drift = Drift(t, compose(corrected, inverse(odometry)), self.drift.began)
                return self.drift
        self.drift = Drift(t, compose(estimate, inverse(odometry)), t)
        return self.drift

    def track_moved(self, before: FloatArray, after: FloatArray, step: FloatArray) -> None:
        """Keep the robot where it is although its odometry jumped from `before` to `after` while it made a `step`."""
        if self.drift is not None:
            robot = compose(compose(self.drift.pose, before), step)
            self.drift = Drift(self.drift.t, compose(robot, inverse(after)), self.drift.began)
