"""What the odometry says at one moment: pose in the track frame, and velocity."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import relative, twist
from vinecompass.runs import Track

__all__ = ["Motion", "motion_at"]


@dataclass(frozen=True)
class Motion:
    """A reading of the odometry.

    Parameters
    ----------
    t : float
        Seconds.
    pose : array, (3,)
        In the track frame, m and radians.
    velocity : array, (3,)
        Forward and sideways speed, m/s, and turn rate, rad/s, in the body frame.
    """

    t: float
    pose: NDArray[np.float64]
    velocity: NDArray[np.float64]


def motion_at(track: Track, t: float, *, duration: float) -> Motion:
    """Return the motion at time `t`, its velocity averaged over the `duration` (s) that follows."""
    here, later = track.at([t, t + duration])
    return Motion(float(t), here, twist(relative(later, here), duration))
