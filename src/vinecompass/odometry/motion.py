"""What the odometry says about one scan: where it began, and how the body moved while it was swept."""

from __future__ import annotations

import heapq
from collections.abc import Iterator
from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import relative
from vinecompass.robot import Lidar
from vinecompass.runs import Run, Scan, Scans, Track

__all__ = ["BodyVelocity", "SweepMotion", "motion_at", "motions", "swept_scans"]

AT_ONCE = 256
"""Scans whose motions are read from a track together: one by one, the reading costs more than the matching."""


@dataclass(frozen=True)
class SweepMotion:
    """The odometry during one scan.

    Parameters
    ----------
    t : float
        The scan's stamp, s.
    pose : array, (3,)
        The body's pose at the stamp in the track frame, m and radians.
    sweep : array, (beams, 3)
        Its pose as each beam fired, seen from its pose at the stamp.
    summed_steps : array, (3, 3), optional
        What the `summed_steps` of its track are at the stamp, m2, m rad and rad2.
    """

    t: float
    pose: NDArray[np.float64]
    sweep: NDArray[np.float64]
    summed_steps: NDArray[np.float64] | None = None

    def step_covariance(self, before: SweepMotion) -> NDArray[np.float64] | None:
        """Return the covariance ``(3, 3)`` of the step from another scan's pose to this one's, in the body's axes.

        None if the odometry does not tell.
        """
        if self.summed_steps is None or before.summed_steps is None:
            return None
        return self.summed_steps - before.summed_steps


@dataclass(frozen=True)
class BodyVelocity:
    """A velocity held since the last scan, where there is no odometry but what was commanded or estimated.

    Parameters
    ----------
    ahead, left : float
        Metres a second, in the body frame.
    turn_rate : float
        Radians a second.
    """

    ahead: float
    left: float
    turn_rate: float

    @property
    def vector(self) -> NDArray[np.float64]:
        """The three as an array."""
        return np.array([self.ahead, self.left, self.turn_rate])


def motion_at(track: Track, t: float, lidar: Lidar) -> SweepMotion:
    """Return the motion during the scan with stamp `t`, read from a track that covers it."""
    poses = track.at(np.concatenate([[t], t + lidar.beam_delays]))
    summed = track.summed_steps_at(np.array([t]))
    return SweepMotion(float(t), poses[0], relative(poses[1:], poses[0]), None if summed is None else summed[0])


def swept_scans(run: Run, track: Track) -> Iterator[tuple[Scan, SweepMotion]]:
    """Yield every scan of a run, whichever lidar's, in the order of their stamps, with the motion during it."""
    streams = (
        zip(scans, motions(track, scans, run.robot.find_lidar(scans.lidar)), strict=True)
        for scans in run.scan_streams()
    )
    return heapq.merge(*streams, key=lambda pair: pair[0].t)


def motions(track: Track, scans: Scans, lidar: Lidar) -> Iterator[SweepMotion]:
    """Yield the motion during each scan: what `motion_at` returns, to the last digit, in a fraction of its time."""
    for first in range(0, len(scans), AT_ONCE):
        stamps = scans.t[first : first + AT_ONCE, None]
        times = np.hstack([stamps, stamps + lidar.beam_delays])
        poses = track.at(times.ravel()).reshape(*times.shape, 3)
        sweeps = relative(poses[:, 1:], poses[:, :1])
        summed = track.summed_steps_at(stamps[:, 0])
        for i, t in enumerate(stamps[:, 0].tolist()):
            yield SweepMotion(t, poses[i, 0], sweeps[i], None if summed is None else summed[i])
