"""Two places that look alike: where to drive to see which of them it is."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose
from vinecompass.grids import MapRays
from vinecompass.robot import Robot

__all__ = ["TellingDrive", "telling_drive"]

FloatArray = NDArray[np.float64]
DIRECTIONS = np.radians(np.arange(0.0, 360.0, 22.5))
WAYS = np.arange(0.5, 10.1, 0.5)
"""Metres."""
DIFFERENT, BEAMS = 0.3, 61
"""Metres by which two ranges differ visibly, and how many beams are compared."""
ENOUGH = 0.15
"""Share of the beams that must differ."""


@dataclass(frozen=True)
class TellingDrive:
    """A straight drive after which two places no longer look alike.

    Parameters
    ----------
    distance : float
        Metres.
    direction : float
        From the robot's heading, radians.
    differing : float
        Share of the beams that would differ there, 0 to 1.
    """

    distance: float
    direction: float
    differing: float

    def __str__(self) -> str:
        degrees = float(np.degrees(self.direction))
        turned = degrees - 360.0 if degrees > 180.0 else degrees
        where = (
            "ahead"
            if turned == 0.0
            else "back"
            if turned == 180.0
            else f"{abs(turned):.0f} degrees to the {'left' if turned > 0.0 else 'right'}"
        )
        return f"drive {self.distance:.1f} m {where}: {100.0 * self.differing:.0f} % of the beams would differ there"


def telling_drive(rays: MapRays, robot: Robot, one: FloatArray, other: FloatArray) -> TellingDrive | None:
    """Return the shortest straight drive after which scans from two poses ``(3,)`` would differ; None if none does.

    Only drives that are free for the body from both poses count, as nobody knows which of them it is.
    """
    lidar = robot.scanner
    angles = lidar.beam_angles[:: max(lidar.beams // BEAMS, 1)]
    reach = np.minimum(*(_reach(rays, robot, pose) for pose in (one, other)))
    for way in WAYS:
        open_ones = DIRECTIONS[reach >= way]
        if len(open_ones) == 0:
            break
        moves = np.column_stack([way * np.cos(open_ones), way * np.sin(open_ones), np.zeros(len(open_ones))])
        seen = [
            np.minimum(
                rays.ranges(compose(compose(pose, moves), lidar.mount_pose), angles, farthest=lidar.farthest),
                lidar.farthest,
            )
            for pose in (one, other)
        ]
        differing = np.mean(np.abs(seen[0] - seen[1]) > DIFFERENT, axis=1)
        best = int(np.argmax(differing))
        if differing[best] >= ENOUGH:
            return TellingDrive(float(way), float(open_ones[best]), float(differing[best]))
    return None


def _reach(rays: MapRays, robot: Robot, pose: FloatArray) -> FloatArray:
    """Return how far the body gets from a pose in each direction, m: at least half its width must be clear."""
    ways = np.arange(0.0, WAYS[-1] + 0.05, 0.1)
    headings = pose[2] + DIRECTIONS
    line = pose[:2] + ways[:, None, None] * np.stack([np.cos(headings), np.sin(headings)], axis=-1)
    tight = rays.clearance_at(line.reshape(-1, 2)).reshape(line.shape[:2]) < robot.body.inner_radius
    return np.where(tight.any(axis=0), ways[np.argmax(tight, axis=0)], ways[-1])
