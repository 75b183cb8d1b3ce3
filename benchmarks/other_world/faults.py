"""What goes wrong on robots of the second world: one thing at a time, from a time on."""

from __future__ import annotations

from collections import deque
from collections.abc import Callable

import numpy as np
from shapely.affinity import rotate, translate
from shapely.geometry import Point, box

from benchmarks.other_world.base import OtherBase
from benchmarks.other_world.mission import Input, Mission
from vinecompass import Scan, Track

__all__ = ["FAULTS", "barrier", "fault_of"]

FAULTS = (
    "covered scanner",
    "covered half",
    "covered corner",
    "stuck sector",
    "no echo",
    "clock back",
    "clock ahead",
    "late scans",
    "swapped scans",
    "frozen odometry",
    "nan",
    "wrong lengths",
    "barrier",
    "carried away",
    "dead wheel",
    "silent sector",
    "odometry backwards",
    "mirrored scanner",
    "millimetres",
    "odometry begun anew",
    "spinning wheels",
)
ALL_ALONG = ("odometry backwards", "mirrored scanner", "millimetres")
"""What is wrong in a file or in a program is so from the start, for good."""
ELSEWHERE = np.array([-31.0, 12.0, 2.0])
"""Where the odometry has the robot once it has begun anew."""


def fault_of(kind: str, mission: Mission, rng: np.random.Generator) -> Callable[[Input, OtherBase], Input]:
    """Return what spoils the input of each step; for some seconds, or for good."""
    begin, length = rng.uniform(3.0, 8.0), rng.choice([4.5, 12.0, np.inf])
    beams, done = mission.robot.filed.lidars[0].beams, [False]
    kept: deque[Input] = deque(maxlen=200)
    quarter = slice(0, beams // 6) if rng.random() < 0.5 else slice(beams - beams // 6, beams)
    middle = slice(beams * 2 // 5, beams * 3 // 5)
    half = slice(0, beams // 2) if rng.random() < 0.5 else slice(beams // 2, beams)
    first: list[np.ndarray] = []

    def ranges_in(given: Input, part: slice, value: float) -> Input:
        ranges = given.scan.ranges.copy()
        ranges[part] = value
        return Input(given.t, Scan(given.scan.t, ranges), given.odometry)

    def shifted(given: Input, by: float) -> Input:
        track = Track(given.odometry.t + by, given.odometry.poses)
        return Input(given.t + by, Scan(given.scan.t + by, given.scan.ranges), track)

    def scaled(given: Input, by: float) -> Input:
        return Input(given.t, given.scan, Track(given.odometry.t, given.odometry.poses * [by, by, 1.0]))

    def anew(given: Input, later: np.ndarray) -> Input:
        poses, turn = given.odometry.poses.copy(), ELSEWHERE[2] - first[0][2]
        c, s = np.cos(turn), np.sin(turn)
        moved = poses[later] - first[0]
        poses[later] = ELSEWHERE + moved @ np.array([[c, s, 0.0], [-s, c, 0.0], [0.0, 0.0, 1.0]])
        return Input(given.t, given.scan, Track(given.odometry.t, poses))

    def spoil(given: Input, base: OtherBase) -> Input:
        active = begin <= base.t < begin + length or kind in ALL_ALONG
        if kind.startswith("clock"):
            # A clock that was set stays set.
            return shifted(given, (-5.0 if kind == "clock back" else 30.0) if base.t >= begin else 0.0)
        if kind == "odometry begun anew":
            later = given.odometry.t >= begin
            if np.any(later) and not first:
                first.append(given.odometry.poses[later][0])
            return anew(given, later) if first else given
        if kind == "late scans":
            kept.append(given)
            return Input(given.t, kept[max(len(kept) - 15, 0)].scan, given.odometry) if active else given
        if kind == "swapped scans":
            kept.append(given)
            old = kept[max(len(kept) - int(rng.integers(1, 12)), 0)]
            return Input(given.t, old.scan, given.odometry) if active else given
        if not active:
            return given
        if kind == "carried away" and not done[0]:
            # It is lifted, its wheels in the air, and put down where it began.
            lifted = base.t < begin + 4.0
            base.grip = 0.0 if lifted else 1.0
            if not lifted:
                done[0] = True
                base.pose = mission.start.copy()
        base.dead_wheel = kind == "dead wheel"
        base.spins = kind == "spinning wheels"
        if kind == "mirrored scanner":
            return Input(given.t, Scan(given.scan.t, given.scan.ranges[::-1].copy()), given.odometry)
        if kind in ("odometry backwards", "millimetres"):
            return scaled(given, -1.0 if kind == "odometry backwards" else 1000.0)
        if kind == "covered scanner":
            return ranges_in(given, slice(None), 0.02)
        if kind == "covered half":
            return ranges_in(given, half, 0.02)
        if kind == "covered corner":
            return ranges_in(given, quarter, np.nan)
        if kind == "silent sector":
            return ranges_in(given, middle, np.inf)
        if kind == "no echo":
            return ranges_in(given, slice(None), 80.0)
        if kind == "stuck sector":
            first[:] = first or [given.scan.ranges[quarter].copy()]
            ranges = given.scan.ranges.copy()
            ranges[quarter] = first[0]
            return Input(given.t, Scan(given.scan.t, ranges), given.odometry)
        if kind == "frozen odometry":
            first[:] = first or [given.odometry.poses[-1].copy()]
            track = Track(given.odometry.t, np.tile(first[0], (len(given.odometry.t), 1)))
            return Input(given.t, given.scan, track)
        if kind == "nan":
            poses = given.odometry.poses.copy()
            poses[len(poses) // 2] = np.nan
            return Input(given.t, given.scan, Track(given.odometry.t, poses))
        if kind == "wrong lengths":
            return Input(given.t, Scan(given.scan.t, given.scan.ranges[:-3]), given.odometry)
        return given

    return spoil


def barrier(mission: Mission, rng: np.random.Generator) -> None:
    """Put crates on the way that the map does not know."""
    middle = mission.start[:2] + rng.uniform(0.4, 0.6) * (mission.goal[:2] - mission.start[:2])
    across = np.degrees(np.arctan2(*(mission.goal[:2] - mission.start[:2])[::-1]))
    crate = translate(rotate(box(-0.2, -0.8, 0.2, 0.8), across), *middle)
    reach = np.hypot(*np.array(mission.robot.body.exterior.coords).T).max() + 0.4
    if all(crate.distance(Point(end[:2])) > reach for end in (mission.start, mission.goal)):
        mission.site.crates.append(crate)
