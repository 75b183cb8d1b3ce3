"""The time-optimal band: poses and the times between them, drawn tight by least squares."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass, replace
from functools import cached_property
from typing import NamedTuple

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import OPEN_FLOOR, BodyShape, Cells, shape_of
from vinecompass.costs import CostMap
from vinecompass.following.band.equation_kernels import HALF
from vinecompass.following.band.kernels import optimise
from vinecompass.following.band.obstacle import Obstacle
from vinecompass.following.band.way_kernels import between
from vinecompass.following.speed_profile import RESERVE
from vinecompass.geometry import compose, inverse, transform_points
from vinecompass.motion import MotionLimits, limits_of
from vinecompass.robot import Robot
from vinecompass.settings import BandSettings

__all__ = ["Band", "draw_tight", "first_guess"]

FloatArray = NDArray[np.float64]
TERMS = ("time", "slip", "speed", "acceleration", "radius", "obstacles", "floor")
WEIGHTS = (1.0, 300.0, 20.0, 5.0, 300.0)
"""What each of the first terms counts: a time of a second as much as an excess of some centimetres, or centimetres a
second. They stand for the drive's limits, which are no matter of taste; what a gap counts is a setting."""
FEWEST_INTERVALS, MOST_INTERVALS = 6, 60
"""Intervals of a band."""


class BandProblem(NamedTuple):
    """What a band is drawn tight by, all in one frame.

    Parameters
    ----------
    limits : MotionLimits
    weights : array, (7,)
        What each term counts.
    spare_to_floor, spare_to_obstacles : float
        Gaps to keep to the middles of forbidden cells, and to obstacles, m.
    cells : Cells
    body : BodyShape
    segments : array, (S, 7)
        Obstacles: both ends, velocity, radius.
    speed, turn_rate : float
        What the robot does as it begins.
    ends_at_speed : bool
        Whether it need not stand at its end.
    """

    limits: MotionLimits
    weights: FloatArray
    spare_to_floor: float
    spare_to_obstacles: float
    cells: Cells
    body: BodyShape
    segments: FloatArray
    speed: float
    turn_rate: float
    ends_at_speed: bool


class Equations(NamedTuple):
    """Normal equations in band storage: matrix ``(4 N, 12)`` and right side ``(4 N,)``; and what each term costs."""

    matrix: FloatArray
    right: FloatArray
    costs: FloatArray

    @classmethod
    def for_band(cls, intervals: int) -> Equations:
        """Return room for the equations of a band."""
        return cls(np.empty((4 * intervals, HALF + 1)), np.empty(4 * intervals), np.empty(len(TERMS)))

    @classmethod
    def for_costs(cls) -> Equations:
        """Return room for costs only."""
        return cls(np.empty((0, HALF + 1)), np.empty(0), np.empty(len(TERMS)))


@dataclass(frozen=True)
class Band:
    """A local plan in time.

    Parameters
    ----------
    poses : array, (N + 1, 3)
        In the site frame, headings unwrapped.
    times : array, (N,)
        Seconds between them.
    terms : dict of str to float
        What each term of the optimisation still costs.
    """

    poses: FloatArray
    times: FloatArray
    terms: dict[str, float]

    @property
    def duration(self) -> float:
        """Seconds from start to end."""
        return float(self.times.sum())

    @property
    def cost(self) -> float:
        """Its duration, and what it breaks: in seconds."""
        return self.duration + sum(value for name, value in self.terms.items() if name != "time")

    @cached_property
    def stamps(self) -> FloatArray:
        """Seconds from its start to each pose ``(N + 1,)``."""
        return np.concatenate([[0.0], np.cumsum(self.times)])

    def at(self, t: ArrayLike) -> FloatArray:
        """Return the poses ``(M, 3)`` at increasing times after its start, s, headings unwrapped."""
        times = np.asarray(t, dtype=float)
        poses = np.empty((len(times), 3))
        between(times, self.stamps, self.poses, poses)
        return poses

    def evenly(self, interval: float) -> Band:
        """Return it with evenly spaced times, about `interval` apart."""
        count = min(max(round(self.duration / interval), FEWEST_INTERVALS), MOST_INTERVALS)
        times = np.full(count, self.duration / count)
        return replace(self, poses=self.at(np.arange(count + 1.0) * times[0]), times=times)


def first_guess(poses: ArrayLike, robot: Robot, *, interval: float = 0.25) -> Band:
    """Return a band along poses ``(M, 3)``, two or more, at three quarters of the drive's top speeds."""
    path = np.array(poses, dtype=float)
    path[:, 2] = np.unwrap(path[:, 2])
    drive = robot.drive
    way, turn = np.hypot(*np.diff(path[:, :2], axis=0).T), np.abs(np.diff(path[:, 2]))
    times = np.maximum(way / (0.75 * drive.top_speed), turn / (0.75 * drive.top_turn_rate))
    moving = times > 1e-6
    path, times = np.vstack([path[:1], path[1:][moving]]), times[moving]
    if len(times) == 0:
        path, times = np.vstack([path[:1], path[:1]]), np.array([interval])
    return Band(path, times, {}).evenly(interval)


def draw_tight(
    band: Band,
    robot: Robot,
    *,
    speed: float = 0.0,
    turn_rate: float = 0.0,
    floor: CostMap | None = None,
    obstacles: Sequence[Obstacle] = (),
    top_speed: float | None = None,
    ends_at_speed: bool = False,
    tightness: float = 0.0,
    settings: BandSettings | None = None,
    rounds: int = 1,
) -> Band:
    """Make a band as quick as the drive, the floor and the obstacles allow; its first and last pose stay.

    Parameters
    ----------
    band : Band
    robot : Robot
    speed, turn_rate : float
        With which the robot begins, m/s and rad/s.
    floor : CostMap, optional
        Whose forbidden cells it keeps clear of.
    obstacles : sequence of Obstacle
        Shapes that it keeps clear of besides, each where it will be at the time.
    top_speed : float, optional
        m/s, below the drive's own.
    ends_at_speed : bool
        Whether it need not stand at its last pose.
    tightness : float
        0 where there is room for the gap that it keeps to the floor's forbidden cells, 1 where the body just fits: a
        gap that cannot be kept would only push the band about, and off the curves that the drive can follow.
    settings : BandSettings, optional
    rounds : int
        How often its times are evened out and it is optimised anew.

    Returns
    -------
    Band
        Whether it breaks something still, its `terms` tell.

    Notes
    -----
    Trajectories as a band of poses and times are due to Quinlan and Khatib (1993) and Rösmann, Feiten, Wösch, Hoffmann
    and Bertram (2012); topologies in parallel to Bhattacharya, Kumar and Likhachev (2010) and Kuderer et al. (2014).
    The sparse least squares are solved by Levenberg and Marquardt's method with a banded Cholesky factorisation.

    Examples
    --------
    >>> from vinecompass import demo_file, read_robot
    >>> robot = read_robot(demo_file("robot.toml"))
    >>> band = draw_tight(first_guess([[0.0, 0.0, 0.0], [3.0, 0.0, 0.0]], robot), robot, rounds=4)
    >>> 3.9 < band.duration < 4.4
    True
    """
    s = settings or BandSettings()
    frame = np.zeros(3) if floor is None else floor.grid.frame
    cells = OPEN_FLOOR if floor is None else floor.cells
    problem = BandProblem(
        limits=_kept_below(robot, top_speed),
        weights=np.array([*WEIGHTS, s.clearance, s.clearance]),
        # From a forbidden cell's middle to its edge.
        spare_to_floor=(1.0 - tightness) * s.spare + 0.5 * cells.cell_size,
        spare_to_obstacles=s.spare,
        cells=cells,
        body=shape_of(robot.body),
        segments=_in_frame(frame, obstacles),
        speed=float(speed),
        turn_rate=float(turn_rate),
        ends_at_speed=ends_at_speed,
    )
    for _ in range(rounds):
        band = band.evenly(s.interval)
        poses = compose(inverse(frame), band.poses)
        poses[:, 2] = band.poses[:, 2] - frame[2]
        times = band.times.copy()
        equations = Equations.for_band(len(times))
        optimise(problem, poses, times, equations, Equations.for_costs(), s.iterations)
        site = compose(frame, poses)
        site[:, 2] = poses[:, 2] + frame[2]
        band = Band(site, times, dict(zip(TERMS, equations.costs.tolist(), strict=True)))
    return band


def _kept_below(robot: Robot, top_speed: float | None) -> MotionLimits:
    """Return the limits that a band keeps to: a little within the drive's, and below a speed."""
    limits = limits_of(robot.drive)
    top = RESERVE * limits.top_speed if top_speed is None else min(top_speed, RESERVE * limits.top_speed)
    return limits._replace(
        top_speed=top,
        reverse_speed=RESERVE * min(limits.reverse_speed, top),
        top_turn_rate=RESERVE * limits.top_turn_rate,
        acceleration=RESERVE * limits.acceleration,
        braking=RESERVE * limits.braking,
        turn_acceleration=RESERVE * limits.turn_acceleration,
        top_rim_speed=RESERVE * limits.top_rim_speed,
        turning_radius=limits.turning_radius / RESERVE,
    )


def _in_frame(frame: FloatArray, obstacles: Sequence[Obstacle]) -> FloatArray:
    """Return the lines of obstacles ``(S, 7)`` in a frame given in the site's."""
    if not obstacles:
        return np.zeros((0, 7))
    lines = np.vstack([each.segments for each in obstacles])
    back, turn = inverse(frame), [0.0, 0.0, -float(frame[2])]
    return np.ascontiguousarray(
        np.hstack(
            [
                transform_points(back, lines[:, :2]),
                transform_points(back, lines[:, 2:4]),
                transform_points(turn, lines[:, 4:6]),
                lines[:, 6:],
            ]
        )
    )
