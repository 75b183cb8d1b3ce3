"""What the odometry says about one scan: where it began, and how the body moved while it was swept."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import relative
from vinecompass.robot import Lidar
from vinecompass.runs import Track

__all__ = ["Motion", "motion_at"]


@dataclass(frozen=True)
class Motion:
    """The odometry during one scan.

    Parameters
    ----------
    t : float
        The scan's stamp, s.
    pose : array, (3,)
        The body's pose at the stamp in the track frame, m and radians.
    sweep : array, (beams, 3)
        Its pose as each beam fired, seen from its pose at the stamp.
    """

    t: float
    pose: NDArray[np.float64]
    sweep: NDArray[np.float64]


def motion_at(track: Track, t: float, lidar: Lidar) -> Motion:
    """Return the motion during the scan with stamp `t`, read from a track that covers it."""
    poses = track.at(np.append(t, t + lidar.beam_delays))
    return Motion(float(t), poses[0], relative(poses[1:], poses[0]))
