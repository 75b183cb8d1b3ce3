"""What moves by itself: a thing that stands where beams passed a moment ago came there, and goes on."""

from __future__ import annotations

from collections import deque
from dataclasses import dataclass
from functools import cached_property

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import minimum_filter1d
from scipy.spatial import KDTree

from vinecompass.geometry import inverse, relative, transform_points, wrap_angle
from vinecompass.grids import Beams

__all__ = ["MovingThings"]

FloatArray = NDArray[np.float64]
AGES = 0.4, 1.0
"""Seconds between the scans that are compared: what is quick shows by the first, what creeps by the second."""
NEAR = 3.0
"""Metres from the scanner within which things count."""
CAME, ODOMETRY_OFF = 0.12, 0.15
"""Metres by which a thing must have come, and beams have passed it, or it may as well be noise that stands still; and
the share of the way and the turn made in the meantime by which the odometry may be off besides."""
QUICKEST = 2.0
"""m/s above which nothing walks: a thing that seems to was hidden before."""
BESIDE = 0.05
"""Radians on either side of a thing within which all beams must have passed: one alone may have grazed a wall."""
APART, WIDEST, FEWEST = 0.25, 1.2, 3
"""Metres between neighbouring points of one thing, and across it, at most; and its points below which it may be a
stray."""
STEP, SHORTEST = 0.4, 0.8
"""Seconds from one place of a thing's way to the next that is told, and for which it is told at the shortest."""
SAME_PERSON = 0.8
"""Metres from a person who is tracked within which a thing is that person, and the tracker's word holds."""


class MovingThings:
    """Compares each scan with earlier ones, laid where the odometry has them, and tells where what moves will be.

    A point now within floor that an earlier scan saw through has come there. The nearest point of that scan is where
    its front was, and from there it goes on as fast: enough to brake in time, where nobody tracks people.
    """

    def __init__(self) -> None:
        self._kept: deque[_Earlier] = deque()
        self._moving: list[_Moving] = []

    def take(self, t: float, pose: FloatArray, beams: Beams) -> None:
        """Take in the beams of a scan of time `t`, s, from the body's pose ``(3,)`` in the odometry's frame."""
        now = _Earlier.of(t, pose, beams)
        near = now.hits[np.hypot(*(now.hits - now.origin).T) < NEAR]
        while self._kept and self._kept[0].t < t - 2.0 * AGES[-1]:
            self._kept.popleft()
        self._moving = []
        for age in AGES:
            before = [scan for scan in self._kept if scan.t <= t - age]
            if before:
                self._moving += before[-1].moved(near, t, pose)
        self._kept.append(now)

    def ahead(self, t: float, pose: FloatArray, tracked: FloatArray, *, within: float) -> FloatArray:
        """Return where what moves is at a time, s, and will be soon ``(N, 2)``, in the frame of the body at a pose, m.

        `within` are the seconds that it takes to stop. `tracked` (P, 2) is where people are, in that frame: what moves
        there is left out.
        """
        moments = np.append(np.arange(0.0, max(within, SHORTEST), STEP), max(within, SHORTEST))
        told = [np.zeros((0, 2))]
        for thing in self._moving:
            ways = (t - thing.t + moments)[:, None, None] * thing.velocity
            points = transform_points(inverse(pose), (thing.points + ways).reshape(-1, 2))
            now = points[: len(thing.points)].mean(axis=0)
            if len(tracked) == 0 or np.hypot(*(tracked - now).T).min() >= SAME_PERSON:
                told.append(points)
        return np.vstack(told)

    def carried(self) -> None:
        """Forget everything: the robot was put down elsewhere."""
        self._kept.clear()
        self._moving = []


@dataclass(frozen=True)
class _Moving:
    """A thing's points ``(N, 2)`` at a time, s, and its velocity ``(2,)``, in the odometry's frame, m and m/s."""

    t: float
    points: FloatArray
    velocity: FloatArray


@dataclass(frozen=True)
class _Earlier:
    """A scan in the odometry's frame, its beams in the order of their bearings from the scanner.

    With each beam goes the shortest reach of those up to `BESIDE` from it, m.
    """

    t: float
    pose: FloatArray
    origin: FloatArray
    bearings: FloatArray
    shortest: FloatArray
    hits: FloatArray

    @classmethod
    def of(cls, t: float, pose: FloatArray, beams: Beams) -> _Earlier:
        """Return a scan that was taken from the body's pose ``(3,)``."""
        origin = transform_points(pose, beams.origins.mean(axis=0)[None])[0] if len(beams.origins) else pose[:2]
        ends = transform_points(pose, beams.ends)
        bearings, reaches = _seen_from(origin, ends)
        order = np.argsort(bearings)
        bearings, reaches = bearings[order], reaches[order]
        spacing = max(float(np.ptp(bearings)) / len(bearings), 1e-3) if len(bearings) else 1.0
        shortest = minimum_filter1d(reaches, 2 * int(np.ceil(BESIDE / spacing)) + 1, mode="wrap")
        return cls(t, pose, origin, bearings, shortest, ends[beams.hit])

    @cached_property
    def tree(self) -> KDTree:
        """Of what it hit; two later scans are compared with it."""
        return KDTree(self.hits)

    def moved(self, points: FloatArray, t: float, pose: FloatArray) -> list[_Moving]:
        """Return the things that points ``(N, 2)`` of a later scan, from a pose, show to have moved since this one."""
        if len(self.hits) < FEWEST or len(points) < FEWEST:
            return []
        ahead, left, turned = relative(pose, self.pose)
        distances = np.hypot(*(points - pose[:2]).T)
        least = CAME + ODOMETRY_OFF * (np.hypot(ahead, left) + abs(turned) * distances)
        passed = self._passed(points, least)
        came, least = points[passed], least[passed]
        if len(came) == 0:
            return []
        way, nearest = self.tree.query(came, distance_upper_bound=QUICKEST * (t - self.t))
        has_come = (way > least) & np.isfinite(way)
        came, steps = came[has_come], came[has_come] - self.hits[np.asarray(nearest)[has_come]]
        gaps = np.hypot(*np.diff(came, axis=0).T) > APART
        things = np.split(np.arange(len(came)), np.flatnonzero(gaps) + 1)
        return [
            _Moving(t, came[thing], np.median(steps[thing], axis=0) / (t - self.t))
            for thing in things
            if len(thing) >= FEWEST and np.ptp(came[thing], axis=0).max() < WIDEST
        ]

    def _passed(self, points: FloatArray, by: FloatArray) -> NDArray[np.bool_]:
        """Tell which points the beams on either side of them passed by a way ``(N,)``, m."""
        bearings, distances = _seen_from(self.origin, points)
        beam = np.searchsorted(self.bearings, bearings) % len(self.bearings)
        off = np.abs(wrap_angle(self.bearings[beam] - bearings))
        return (off < BESIDE) & (self.shortest[beam] > distances + by)


def _seen_from(origin: FloatArray, points: FloatArray) -> tuple[FloatArray, FloatArray]:
    """Return the bearings ``(N,)`` of points ``(N, 2)`` from an origin ``(2,)``, radians, and how far they are, m."""
    away = points - origin
    return np.arctan2(away[:, 1], away[:, 0]), np.hypot(*away.T)
