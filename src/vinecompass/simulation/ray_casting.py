"""Beams cast into the true site, without noise."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.robot import Lidar
from vinecompass.simulation.kernels import cast_rays

__all__ = ["cast_beams"]

NOBODY = np.zeros((0, 3))


def cast_beams(
    segments: NDArray[np.float64], poses: ArrayLike, lidar: Lidar, *, people: NDArray[np.float64] = NOBODY
) -> NDArray[np.float64]:
    """Return the true range of every beam of one scan.

    Parameters
    ----------
    segments : array, (S, 4)
        What stops a beam: x, y of one end and x, y of the other, m.
    poses : array_like, (beams, 3)
        Where the body was when each beam fired.
    lidar : Lidar
    people : array, (P, 3)
        Discs that stop a beam too: x, y, radius.

    Returns
    -------
    array, (beams,)
        Metres; `inf` where nothing is in the way within the lidar's reach. A range beyond it may be given or not.
    """
    stack = np.ascontiguousarray(poses, dtype=float)
    return np.asarray(cast_rays(segments, people, stack, lidar.mount_pose, lidar.beam_angles, lidar.farthest))
