"""Deskewing: each beam fires at its own time, so each is placed from where the robot was then."""

from __future__ import annotations

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.grids import Beams
from vinecompass.odometry.kernels import beam_ends, believed_beams, returned_ends, telling_beams
from vinecompass.robot import Lidar

__all__ = ["believed_ranges", "deskewed_ends", "deskewed_hits", "returned_beams", "straightened_beams"]

FloatArray = NDArray[np.float64]


def deskewed_ends(ranges: ArrayLike, lidar: Lidar, sweep: ArrayLike) -> tuple[FloatArray, FloatArray]:
    """Return where every beam of a scan started and ended, in the body frame at the scan's stamp.

    Parameters
    ----------
    ranges : array_like, (beams,)
        Metres, finite.
    lidar : Lidar
    sweep : array_like, (beams, 3)
        The body's pose as each beam fired, seen from its pose at the stamp.

    Returns
    -------
    origins, ends : array, (beams, 2)
        Metres.
    """
    reach, poses = np.asarray(ranges, dtype=float), np.ascontiguousarray(sweep, dtype=float)
    origins, ends = beam_ends(reach, lidar.beam_angles, lidar.mount_pose, poses)
    return origins, ends


def believed_ranges(ranges: NDArray[np.float32], lidar: Lidar) -> NDArray[np.float32]:
    """Return the ranges ``(beams,)`` of a scan without those of lone beams that go on where all beside them end.

    A beam that fails, or strays, would clear the floor through walls; such become `nan`, "no reading".
    """
    return np.where(believed_beams(ranges, lidar.read(ranges)), ranges, np.float32(np.nan))


def straightened_beams(ranges: NDArray[np.float32], lidar: Lidar, sweep: ArrayLike, *, clear_reach: float) -> Beams:
    """Return the beams of a scan that tell something: those that hit, and those that found nothing within reach.

    The latter are trusted to have passed up to `clear_reach` metres, or as far as the lidar reaches.
    """
    poses, passed = np.ascontiguousarray(sweep, dtype=float), min(clear_reach, lidar.farthest)
    return Beams(*telling_beams(ranges, lidar.returned(ranges), lidar.beam_angles, lidar.mount_pose, poses, passed))


def returned_beams(ranges: NDArray[np.float32], lidar: Lidar, sweep: ArrayLike) -> tuple[FloatArray, FloatArray]:
    """Return where the returning beams of a scan started and ended ``(N, 2)``, in the body frame at its stamp, m."""
    poses = np.ascontiguousarray(sweep, dtype=float)
    origins, ends = returned_ends(ranges, lidar.returned(ranges), lidar.beam_angles, lidar.mount_pose, poses)
    return origins, ends


def deskewed_hits(ranges: NDArray[np.float32], lidar: Lidar, sweep: ArrayLike) -> FloatArray:
    """Return the points ``(N, 2)`` that the returning beams of a scan hit, in the body frame at its stamp, m."""
    return returned_beams(ranges, lidar, sweep)[1]
