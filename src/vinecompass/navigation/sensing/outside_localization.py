"""Poses told from outside in place of our own localization: beacons, a total station, another program."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.geometry import compose, relative
from vinecompass.localization import Cluster, DriftFollower, Estimate, State

__all__ = ["OutsideLocalization", "read_pose"]

FloatArray = NDArray[np.float64]
SPREAD = np.diag([0.02, 0.02, np.radians(0.5)]) ** 2
"""What is taken for the covariance of a pose told from outside, m2 and rad2."""
SILENT_AFTER, LOST_AFTER = 1.0, 5.0
"""Seconds without a pose after which it is doubted, and after which the robot is lost; the odometry leads till then."""


def read_pose(told: ArrayLike) -> tuple[FloatArray | None, str]:
    """Return a pose ``(3,)`` as it was told, or None, with what is wrong with it.

    One that is not finite tells nothing, and nothing is wrong with that: such is what beacons say when they see little.
    """
    try:
        pose = np.asarray(told, dtype=float)
    except (TypeError, ValueError):
        return None, "the pose from outside is not numbers"
    if pose.shape != (3,):
        return None, f"the pose from outside has the shape {pose.shape}, not (3,)"
    return (pose if np.all(np.isfinite(pose)) else None), ""


class OutsideLocalization:
    """Makes estimates of poses that are told from outside, carried on by the odometry in between."""

    def __init__(self) -> None:
        self._drift = DriftFollower()
        self._told_at = -np.inf
        self._pose = np.zeros(3)
        self._odometry = np.zeros(3)

    def tell(self, t: float, pose: FloatArray, odometry: FloatArray) -> None:
        """Take in where the body is in the site ``(3,)``, and in the track frame ``(3,)``, at a time, s."""
        self._told_at = t
        self._pose = pose
        self._odometry = odometry

    def estimate(self, t: float, odometry: FloatArray) -> Estimate:
        """Return where the body is at a time, s, when the odometry had it at a pose ``(3,)`` in the track frame."""
        pose = compose(self._pose, relative(odometry, self._odometry))
        silent = t - self._told_at
        state: State = "tracking" if silent < SILENT_AFTER else "doubtful" if silent < LOST_AFTER else "lost"
        return Estimate(
            t=t,
            pose=pose,
            covariance=SPREAD,
            state=state,
            reason="told from outside" if state == "tracking" else f"no pose from outside for {silent:.1f} s",
            agreement=float("nan"),
            clusters=[Cluster(pose, SPREAD, 1.0)],
            particles=0,
            effective_sample_size=0.0,
            drift=self._drift.update(t, pose, odometry),
        )
