"""Whether scans move as the odometry says that the body does: what a wrong mount, sign or a stuck robot looks like."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import KDTree

from vinecompass.geometry import relative, transform_points

__all__ = ["ScanMotionWatch"]

FloatArray = NDArray[np.float64]
WAY, TURN = 0.25, np.radians(25.0)
"""Metres or radians of odometry between two scans that are compared."""
LONGEST = 6.0
"""Seconds between them at most: what is about a robot moves as well."""
MOST = 150
"""Points of a scan that are compared."""
SAME_PLACE = 0.12
"""Metres between points of two scans within which they are of the same thing."""
CLEARLY = 0.2
"""By how much larger the share of points seen again must be for one motion to be likelier than another."""
SUSPECTED = 2
"""Comparisons in a row from which another motion is spoken of."""
FEWEST = 30
"""Points below which a scan tells nothing."""


@dataclass(frozen=True)
class _Other:
    """Another motion than the odometry's.

    Parameters
    ----------
    factors : array, (3, 3)
        Times the odometry's motion, x, y and heading.
    text : str
        What it looks like.
    least : int
        Comparisons in a row that must say so.
    """

    factors: FloatArray
    text: str
    least: int


OTHERS = (
    _Other(np.zeros((3, 3)), "the scans stand still where the odometry goes on: the wheels turn on the spot", 20),
    _Other(
        np.diag([-1.0, -1.0, 1.0]),
        "the scans go back where the odometry goes ahead: the lidar's mount is half a turn off, or the odometry's x",
        2,
    ),
    _Other(
        np.diag([1.0, -1.0, -1.0]),
        "the scans turn the other way than the odometry: the lidar's first and last beam are swapped, or the wheels",
        2,
    ),
    _Other(
        np.array([[0.0, 1.0, 0.0], [-1.0, 0.0, 0.0], [0.0, 0.0, 1.0]]),
        "the scans go to the right where the odometry goes ahead: the lidar points a quarter turn farther to the left",
        2,
    ),
    _Other(
        np.array([[0.0, -1.0, 0.0], [1.0, 0.0, 0.0], [0.0, 0.0, 1.0]]),
        "the scans go to the left where the odometry goes ahead: the lidar points a quarter turn farther to the right",
        2,
    ),
)


class ScanMotionWatch:
    """Lays a scan over one from some way before, by the odometry and by what else it might have been.

    It asks no map, so that it tells before a wrong map pose could mislead: what the scanner sees is laid the wrong way
    round about such a robot, and nothing keeps it off walls. Where all look alike, as along a plain corridor, or none
    fits, as on a slippery floor, it says nothing.

    Attributes
    ----------
    suspected : str
        What the last comparisons look like; empty if as the odometry says.
    wrong : str
        Why the robot cannot be driven; empty if it can.
    """

    def __init__(self) -> None:
        self.suspected = ""
        self.wrong = ""
        self._before: tuple[float, FloatArray, KDTree] | None = None
        self._in_a_row = np.zeros(len(OTHERS), int)

    def put_right(self) -> None:
        """Look anew: someone has seen to it."""
        self.suspected = self.wrong = ""
        self._in_a_row[:] = 0

    def take(self, t: float, pose: FloatArray, points: NDArray[np.floating]) -> None:
        """Take in what a scan hit ``(N, 2)`` in the body frame, m, at a time, s, and the odometry's pose ``(3,)``."""
        if len(points) < FEWEST:
            return
        if self._before is None or t - self._before[0] > LONGEST:
            self._before = t, pose, KDTree(points)
            return
        _, from_pose, former = self._before
        moved = relative(pose, from_pose)
        if np.hypot(moved[0], moved[1]) < WAY and abs(moved[2]) < TURN:
            return
        asked = np.asarray(points[:: -(-len(points) // MOST)], dtype=float)
        self._before = t, pose, KDTree(points)
        as_told = _seen_again(former, asked, moved)
        if as_told > 1.0 - CLEARLY:
            self._in_a_row[:] = 0
            self.suspected = ""
            return
        for number, other in enumerate(OTHERS):
            better = _seen_again(former, asked, other.factors @ moved) - as_told
            if better > CLEARLY:
                self._in_a_row[number] += 1
            elif better < -CLEARLY:
                self._in_a_row[number] = 0
            if self._in_a_row[number] >= other.least:
                self.wrong = other.text
        likeliest = int(np.argmax(self._in_a_row))
        self.suspected = OTHERS[likeliest].text if self._in_a_row[likeliest] >= SUSPECTED else ""


def _seen_again(former: KDTree, points: FloatArray, moved: FloatArray) -> float:
    """Return the share of points ``(N, 2)`` that a former scan had, if the body moved ``(3,)`` since."""
    away, _ = former.query(transform_points(moved, points), distance_upper_bound=SAME_PLACE)
    return float(np.mean(np.isfinite(away)))
