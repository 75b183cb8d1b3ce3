"""How a robot gets from one pose to another where nothing is in the way: straight lines, and curves of bounded radius.

A motion of your own is a subclass, or any object with the same two methods. Left turns only, for instance::

    class LeftTurnsOnly(DubinsMotion):
        words = ("LSL",)
"""

from __future__ import annotations

from math import atan2, ceil, hypot
from typing import ClassVar, Protocol

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.motion import limits_of
from vinecompass.planning.curves.kernels import curve_lengths, curve_poses, shortest_curve
from vinecompass.robot import Robot

__all__ = [
    "DubinsMotion",
    "Motion",
    "ReedsSheppMotion",
    "StraightMotion",
    "curve_of",
    "full_turn",
    "need_curve",
    "usual_motion",
]

FloatArray = NDArray[np.float64]
DUBINS_WORDS = ("LSL", "LSR", "RSL", "RSR", "RLR", "LRL")


class Motion(Protocol):
    """What a planner asks of a motion. Poses are ``(x, y, heading)``, m and radians, in any one frame."""

    def lengths(self, starts: ArrayLike, goals: ArrayLike) -> FloatArray:
        """Return the way ``(N,)`` from each start to its goal ``(N, 3)``, m; `inf` where there is none."""

    def poses(self, start: ArrayLike, goal: ArrayLike, spacing: float) -> FloatArray:
        """Return poses ``(M, 3)`` on the way, from start to goal, at most `spacing` metres apart."""


class StraightMotion:
    """Straight lines between turns on the spot; the heading of a pose on a line is the line's."""

    def lengths(self, starts: ArrayLike, goals: ArrayLike) -> FloatArray:
        """Return the straight distances ``(N,)``, m.

        >>> StraightMotion().lengths([[0.0, 0.0, 0.0]], [[3.0, 4.0, 1.0]]).tolist()
        [5.0]
        """
        a = np.atleast_2d(np.asarray(starts, dtype=float))
        b = np.atleast_2d(np.asarray(goals, dtype=float))
        return np.hypot(b[:, 0] - a[:, 0], b[:, 1] - a[:, 1])

    def poses(self, start: ArrayLike, goal: ArrayLike, spacing: float) -> FloatArray:
        """Return evenly spaced poses on the line, all heading along it."""
        a, b = np.asarray(start, dtype=float), np.asarray(goal, dtype=float)
        dx, dy = float(b[0] - a[0]), float(b[1] - a[1])
        length = hypot(dx, dy)
        count = max(ceil(length / spacing), 1)
        shares = np.arange(count + 1) / count
        result = np.empty((count + 1, 3))
        result[:, 0], result[:, 1] = a[0] + shares * dx, a[1] + shares * dy
        result[:, 2] = atan2(dy, dx) if length > 0.0 else a[2]
        return result


class _CurveMotion:
    """Shortest curves whose radius is nowhere below a least one, from pose to pose.

    Parameters
    ----------
    radius : float
        Metres.

    Raises
    ------
    InputError
        The radius is not a number above 0, or a word is none.
    """

    words: ClassVar[tuple[str, ...]] = ()

    @checked
    def __init__(self, radius: float) -> None:
        if not (np.isfinite(radius) and radius > 0.0):
            raise InputError("is no radius", key="radius", value=radius, expected="metres above 0")
        for word in self.words:
            if word not in DUBINS_WORDS:
                raise InputError("is no word", key="words", value=word, expected=f"one of {', '.join(DUBINS_WORDS)}")
        self.radius = float(radius)
        self.allowed = np.array([word in self.words for word in DUBINS_WORDS] if self.words else [], dtype=bool)

    def lengths(self, starts: ArrayLike, goals: ArrayLike) -> FloatArray:
        """Return the lengths of the shortest curves ``(N,)``, m; either argument may be a single pose."""
        a, b = np.broadcast_arrays(np.atleast_2d(np.asarray(starts, float)), np.atleast_2d(np.asarray(goals, float)))
        a, b = np.ascontiguousarray(a), np.ascontiguousarray(b)
        return np.asarray(curve_lengths(a, b, self.radius, self.allowed))

    def poses(self, start: ArrayLike, goal: ArrayLike, spacing: float) -> FloatArray:
        """Return poses on the shortest curve, joints and cusps among them; empty if there is none."""
        a, b = np.asarray(start, dtype=float), np.asarray(goal, dtype=float)
        length, curve = shortest_curve(a, b, self.radius, self.allowed)
        return np.asarray(curve_poses(a, curve, self.radius, spacing)) if np.isfinite(length) else np.zeros((0, 3))


class DubinsMotion(_CurveMotion):
    """Shortest curves forward only (Dubins, 1957): of three pieces, left, right or straight.

    `words` may leave out some of LSL, LSR, RSL, RSR, RLR and LRL.

    Examples
    --------
    >>> DubinsMotion(radius=1.0).lengths([[0.0, 0.0, 0.0]], [[0.0, 2.0, np.pi]]).round(4).tolist()
    [3.1416]
    """

    words: ClassVar[tuple[str, ...]] = DUBINS_WORDS


class ReedsSheppMotion(_CurveMotion):
    """Shortest curves forward and in reverse (Reeds and Shepp, 1990): of up to five pieces.

    Examples
    --------
    >>> ReedsSheppMotion(radius=1.0).lengths([[0.0, 0.0, 0.0]], [[-2.0, 0.0, 0.0]]).tolist()
    [2.0]
    """


def curve_of(motion: Motion) -> tuple[float, NDArray[np.bool_]] | None:
    """Return what kernels want of a motion: its radius, m, 0 for straight lines, and its words, none if in reverse too.

    None for a motion of another kind, which only Python can ask.
    """
    if isinstance(motion, StraightMotion):
        return 0.0, np.zeros(0, bool)
    return (motion.radius, motion.allowed) if isinstance(motion, _CurveMotion) else None


def need_curve(motion: Motion) -> tuple[float, NDArray[np.bool_]]:
    """Return what kernels want of a motion, or raise `InputError` if it is neither straight nor such a curve."""
    curve = curve_of(motion)
    if curve is None:
        raise InputError(
            "is not one that this planner can use",
            key="motion",
            value=type(motion).__name__,
            expected="straight lines, Dubins or Reeds-Shepp curves; rrt, rrt-connect and roadmap take any motion",
        )
    return curve


def full_turn(motion: Motion) -> float:
    """Return the length of a full turn at a curve's least radius, m, which an edge may take to turn about; else 0."""
    return 2.0 * np.pi * motion.radius if isinstance(motion, _CurveMotion) else 0.0


def usual_motion(robot: Robot) -> Motion:
    """Return straight lines for a robot that turns on the spot; for a car, curves, in reverse too if it can."""
    limits = limits_of(robot.drive)
    if limits.turns_on_the_spot:
        return StraightMotion()
    return (ReedsSheppMotion if limits.reverse_speed > 0.0 else DubinsMotion)(limits.turning_radius)
