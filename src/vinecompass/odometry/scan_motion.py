"""Whether scans move as the odometry says that the body does: what a wrong mount, sign or a stuck robot looks like."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.spatial import KDTree

from vinecompass.geometry import relative, transform_points
from vinecompass.odometry.dead_reckoning import odometry_track
from vinecompass.odometry.deskew import deskewed_hits
from vinecompass.odometry.motion import motions
from vinecompass.runs import Run

__all__ = ["ScanMotionWatch", "contradictions_of_scans"]

FloatArray = NDArray[np.float64]
WAY, TURN = 0.25, np.radians(25.0)
"""Metres or radians of odometry between two scans that are compared."""
LONGEST = 6.0
"""Seconds between them at most: what is about a robot moves as well."""
MOST = 150
"""Points of a scan that are compared."""
SAME_PLACE = 0.12
"""Metres between points of two scans within which they are of the same thing."""
CLEARLY, ABOUT = 0.3, 0.05
"""By how much larger the share of points seen again must be for one motion to be likelier than another, and within what
it is about as likely."""
SUSPECTED = 2
"""Comparisons for another motion, and none against it between them, from which it is spoken of."""
FORGOTTEN = 15.0
"""Seconds without another one after which those before count no more: by themselves they were chance."""
FEW, ENOUGH = 5, 200
"""Comparisons that must speak for another motion in a run at least, and those after which no more are made."""
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
        Comparisons that must say so, none speaking against it between them.
    """

    factors: FloatArray
    text: str
    least: int


OTHERS = (
    _Other(np.zeros((3, 3)), "the scans stand still where the odometry goes on: the wheels turn on the spot", 20),
    _Other(np.diag([0.0, 0.0, 1.0]), "the scans turn, but do not go on where the odometry does", 40),
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
        self._pairs = _Pairs()
        self._in_a_row = np.zeros(len(OTHERS), int)
        self._spoken_at = -np.inf

    def put_right(self) -> None:
        """Look anew: someone has seen to it."""
        self.suspected = self.wrong = ""
        self._in_a_row[:] = 0

    def take(self, t: float, pose: FloatArray, points: NDArray[np.floating]) -> None:
        """Take in what a scan hit ``(N, 2)`` in the body frame, m, at a time, s, and the odometry's pose ``(3,)``."""
        pair = self._pairs.next(t, pose, points)
        if pair is None or (pair.as_told > 1.0 - CLEARLY and not np.any(self._in_a_row)):
            return
        verdicts = pair.verdicts()
        if t - self._spoken_at > FORGOTTEN:
            self._in_a_row[:] = 0
        if np.any(verdicts > 0):
            self._spoken_at = t
        self._in_a_row = np.where(verdicts < 0, 0, self._in_a_row + verdicts)
        for row, other in zip(self._in_a_row, OTHERS, strict=True):
            if row >= other.least:
                self.wrong = other.text
        likeliest = int(np.argmax(self._in_a_row))
        self.suspected = OTHERS[likeliest].text if self._in_a_row[likeliest] >= SUSPECTED else ""


def contradictions_of_scans(run: Run) -> tuple[str, ...]:
    """Return how most of a run's first scans moved otherwise than its wheels or odometry say; none if they did not.

    As `ScanMotionWatch` does while a robot drives, it finds scanners that are mirrored or turned, and wrong signs.
    """
    if run.scans is None or (run.odometry is None and run.wheels is None):
        return ()
    scans, lidar = run.scans, run.robot.find_lidar(run.scans.lidar)
    pairs, verdicts = _Pairs(), [np.zeros(len(OTHERS), int)]
    for scan, motion in zip(scans, motions(odometry_track(run), scans, lidar), strict=True):
        pair = pairs.next(motion.t, motion.pose, deskewed_hits(scan.ranges, lidar, motion.sweep))
        if pair is not None:
            verdicts.append(pair.verdicts())
        if len(verdicts) > ENOUGH:
            break
    likelier, unlikelier = np.sum(np.array(verdicts) > 0, axis=0), np.sum(np.array(verdicts) < 0, axis=0)
    most = int(np.argmax(likelier - unlikelier))
    return (OTHERS[most].text,) if likelier[most] >= FEW and likelier[most] > unlikelier[most] else ()


@dataclass(frozen=True)
class _Pair:
    """Points ``(N, 2)`` of a scan, a former scan, and how the odometry says that the body moved between, ``(3,)``."""

    former: KDTree
    points: FloatArray
    moved: FloatArray

    @cached_property
    def as_told(self) -> float:
        """The share of the points that the former scan had, as the odometry has it."""
        return self._seen_again(self.moved)

    def verdicts(self) -> NDArray[np.int64]:
        """Return of each of `OTHERS` whether it is likelier than the odometry's motion: 1, 0 if untold, or -1."""
        moves = np.array([other.factors @ self.moved for other in OTHERS])
        shares = np.array([self._seen_again(moved) for moved in moves])
        verdicts = np.where(shares < self.as_told - CLEARLY, -1, 0)
        likelier = (shares > self.as_told + CLEARLY) & (shares > shares.max() - ABOUT)
        # Two that come to the same are the first of them; to the left as well as to the right is neither.
        first = int(np.argmax(likelier))
        if likelier[first] and np.all(np.abs(moves[likelier] - moves[first]) < SAME_PLACE):
            verdicts[first] = 1
        return verdicts

    def _seen_again(self, moved: FloatArray) -> float:
        away, _ = self.former.query(transform_points(moved, self.points), distance_upper_bound=SAME_PLACE)
        return float(np.mean(np.isfinite(away)))


class _Pairs:
    """Takes scans, and lays each beside the last one that lies far enough behind."""

    def __init__(self) -> None:
        self._before: tuple[float, FloatArray, KDTree] | None = None

    def next(self, t: float, pose: FloatArray, points: NDArray[np.floating]) -> _Pair | None:
        """Return the scan with the one before it, or None if it has not come far enough yet."""
        if len(points) < FEWEST:
            return None
        before = self._before
        if before is None or t - before[0] > LONGEST:
            self._before = t, pose, KDTree(points)
            return None
        _, from_pose, former = before
        moved = relative(pose, from_pose)
        if np.hypot(moved[0], moved[1]) < WAY and abs(moved[2]) < TURN:
            return None
        self._before = t, pose, KDTree(points)
        return _Pair(former, np.asarray(points[:: -(-len(points) // MOST)], dtype=float), moved)
