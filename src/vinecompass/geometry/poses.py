"""Poses in the plane: x, y in metres and heading in radians, counter-clockwise, wrapped to (-pi, pi].

Every function takes a single pose ``(3,)`` or a stack ``(..., 3)`` and broadcasts like NumPy.
"""

from __future__ import annotations

from math import cos, pi, sin

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.geometry.kernels import arc_step, carry, compose_pairs, interpolate

__all__ = [
    "arc",
    "arc_velocity",
    "chain",
    "compose",
    "interpolate_poses",
    "inverse",
    "inverse_covariance",
    "relative",
    "transform_points",
    "turn_on_the_spot",
    "wrap_angle",
    "wrap_heading",
]

FloatArray = NDArray[np.float64]
COVARIANCE_PARTS = ((0, 0), (1, 1), (2, 2), (0, 1), (0, 2), (1, 2))
"""Where in the covariance of a pose the six numbers stand that make it, as files have them: the variances of x, y and
heading, and the covariances of x and y, x and heading, y and heading."""


def wrap_angle(angle: ArrayLike) -> FloatArray:
    """Wrap angles in radians to (-pi, pi].

    >>> float(wrap_angle(np.pi)) == np.pi and float(wrap_angle(-np.pi)) == np.pi
    True
    """
    return np.asarray(np.pi - np.mod(np.pi - np.asarray(angle, dtype=float), 2.0 * np.pi))


def wrap_heading(heading: float) -> float:
    """Do as `wrap_angle` with one heading, for which Python's own arithmetic is several times as fast."""
    return pi - (pi - heading) % (2.0 * pi)


def _stacked(x: FloatArray, y: FloatArray, heading: FloatArray) -> FloatArray:
    """Return three equally shaped arrays as poses ``(..., 3)``, in a third of the time of `numpy.stack`."""
    poses = np.empty((*np.shape(x), 3))
    poses[..., 0], poses[..., 1], poses[..., 2] = x, y, heading
    return poses


def compose(first: ArrayLike, second: ArrayLike) -> FloatArray:
    """Return `second`, given in the frame `first`, in the frame that `first` is given in.

    >>> compose([1.0, 2.0, np.pi / 2], [3.0, 0.0, 0.0]).round(6).tolist()
    [1.0, 5.0, 1.570796]
    """
    a, b = np.asarray(first, dtype=float), np.asarray(second, dtype=float)
    if a.ndim == b.ndim == 1:
        return _compose_two(a.tolist(), b.tolist())
    shape = np.broadcast(a, b).shape
    result = np.empty(shape)
    if len(shape) > 2:
        a, b = np.broadcast_to(a, shape), np.broadcast_to(b, shape)
    first, second = np.ascontiguousarray(a).reshape(-1, 3), np.ascontiguousarray(b).reshape(-1, 3)
    compose_pairs(first, second, result.reshape(-1, 3))
    return result


def _compose_two(first: list[float], second: list[float]) -> FloatArray:
    """Do as `compose` with two single poses, for which Python's own arithmetic is several times as fast."""
    (x, y, heading), (ahead, left, turn) = first, second
    cosine, sine = cos(heading), sin(heading)
    place = x + cosine * ahead - sine * left, y + sine * ahead + cosine * left
    return np.array((*place, wrap_heading(heading + turn)))


def inverse(pose: ArrayLike) -> FloatArray:
    """Return the pose that undoes `pose`: ``compose(pose, inverse(pose))`` is the origin."""
    p = np.asarray(pose, dtype=float)
    if p.ndim == 1:
        x, y, heading = p.tolist()
        c, s = cos(heading), sin(heading)
        return np.array((-c * x - s * y, s * x - c * y, wrap_heading(-heading)))
    cosine, sine = np.cos(p[..., 2]), np.sin(p[..., 2])
    return _stacked(
        -cosine * p[..., 0] - sine * p[..., 1], sine * p[..., 0] - cosine * p[..., 1], wrap_angle(-p[..., 2])
    )


def relative(pose: ArrayLike, frame: ArrayLike) -> FloatArray:
    """Return `pose` as seen from `frame`, both given in the same outer frame."""
    p, f = np.asarray(pose, dtype=float), np.asarray(frame, dtype=float)
    if p.ndim == f.ndim == 1:
        (x, y, heading), (from_x, from_y, turn) = p.tolist(), f.tolist()
        c, s = cos(turn), sin(turn)
        dx, dy = x - from_x, y - from_y
        return np.array((c * dx + s * dy, c * dy - s * dx, wrap_heading(heading - turn)))
    return compose(inverse(f), p)


def covariances_of(parts: ArrayLike) -> FloatArray:
    """Return covariances ``(N, 3, 3)`` from the six numbers of each, in the order of `COVARIANCE_PARTS`."""
    numbers = np.asarray(parts, dtype=float)
    covariances = np.empty((len(numbers), 3, 3))
    for column, (i, j) in enumerate(COVARIANCE_PARTS):
        covariances[:, i, j] = covariances[:, j, i] = numbers[:, column]
    return covariances


def compose_covariances(first: ArrayLike, second: ArrayLike, of_first: ArrayLike, of_second: ArrayLike) -> FloatArray:
    """Return the covariance ``(..., 3, 3)`` of `compose` of two poses that err independently of each other.

    Each covariance is of x, y and heading in the frame that its pose is given in, m2, m rad and rad2 (Smith, Self and
    Cheeseman, 1990).

    >>> compose_covariances([0.0, 0.0, 0.0], [2.0, 0.0, 0.0], np.diag([0.0, 0.0, 0.01]), np.zeros((3, 3)))[1].tolist()
    [0.0, 0.04, 0.02]
    """
    a, b = np.asarray(first, dtype=float), np.asarray(second, dtype=float)
    cosine, sine = np.cos(a[..., 2]), np.sin(a[..., 2])
    shape = (*np.broadcast_shapes(a.shape[:-1], b.shape[:-1]), 3, 3)
    turn = np.zeros(shape)
    turn[..., 0, 0], turn[..., 0, 1] = cosine, -sine
    turn[..., 1, 0], turn[..., 1, 1] = sine, cosine
    turn[..., 2, 2] = 1.0
    # How the far pose moves when the near one turns.
    lever = np.zeros(shape) + np.eye(3)
    lever[..., 0, 2] = -sine * b[..., 0] - cosine * b[..., 1]
    lever[..., 1, 2] = cosine * b[..., 0] - sine * b[..., 1]
    carried = lever @ np.asarray(of_first, dtype=float) @ np.swapaxes(lever, -1, -2)
    return carried + turn @ np.asarray(of_second, dtype=float) @ np.swapaxes(turn, -1, -2)


def inverse_covariance(pose: ArrayLike, covariance: ArrayLike) -> FloatArray:
    """Return the covariance ``(3, 3)`` of the `inverse` of a pose ``(3,)`` that has a covariance ``(3, 3)``.

    >>> inverse_covariance([2.0, 0.0, 0.0], np.diag([0.0, 0.0, 0.01])).round(6).tolist()[1]
    [0.0, 0.04, -0.02]
    """
    x, y, heading = inverse(pose).tolist()
    cosine, sine = cos(heading), sin(heading)
    change = np.array([[-cosine, sine, y], [-sine, -cosine, -x], [0.0, 0.0, -1.0]])
    return np.asarray(change @ np.asarray(covariance, dtype=float) @ change.T)


def chain(start: ArrayLike, steps: ArrayLike) -> FloatArray:
    """Return the poses ``(N + 1, 3)`` passed from `start` by `steps` ``(N, 3)``, each seen from the pose before it.

    >>> chain([0.0, 0.0, 0.0], [[1.0, 0.0, np.pi / 2], [1.0, 0.0, 0.0]]).round(3).tolist()
    [[0.0, 0.0, 0.0], [1.0, 0.0, 1.571], [1.0, 1.0, 1.571]]
    """
    (x, y, first_heading), motion = np.asarray(start, dtype=float), np.asarray(steps, dtype=float)
    headings = first_heading + np.concatenate([[0.0], np.cumsum(motion[:, 2])])
    cosine, sine = np.cos(headings[:-1]), np.sin(headings[:-1])
    return _stacked(
        x + np.concatenate([[0.0], np.cumsum(cosine * motion[:, 0] - sine * motion[:, 1])]),
        y + np.concatenate([[0.0], np.cumsum(sine * motion[:, 0] + cosine * motion[:, 1])]),
        wrap_angle(headings),
    )


def transform_points(pose: ArrayLike, points: ArrayLike) -> FloatArray:
    """Carry points ``(..., 2)``, given in the frame of one `pose` ``(3,)``, to the frame the pose is given in."""
    x, y, heading = np.asarray(pose, dtype=float).tolist()
    xy = np.ascontiguousarray(points, dtype=float)
    result = np.empty_like(xy)
    carry(x, y, heading, xy.reshape(-1, 2), result.reshape(-1, 2))
    return result


def arc(velocity: ArrayLike, duration: ArrayLike) -> FloatArray:
    """Return the motion of a body that keeps a constant velocity for a duration (the exponential map of SE(2)).

    Parameters
    ----------
    velocity : array_like, (..., 3)
        Forward speed (m/s), speed to the left (m/s), turn rate (rad/s), in the body's own frame.
    duration : array_like
        Seconds; may be negative.

    Returns
    -------
    array, (..., 3)
        The pose reached, in the frame of the pose started from.
    """
    velocities, seconds = np.asarray(velocity, dtype=float), np.asarray(duration, dtype=float)
    if velocities.ndim == 1 and seconds.ndim == 0:
        ahead, left, turn_rate = velocities.tolist()
        x, y, heading = arc_step(ahead, left, turn_rate, float(seconds))
        return np.array((x, y, wrap_heading(heading)))
    motion = velocities * seconds[..., None]
    turn = motion[..., 2]
    # sinc keeps both ratios smooth through zero: sin(a)/a, and (1 - cos a)/a = sin(a/2) sinc(a/2).
    along = np.sinc(turn / np.pi)
    across = np.sin(turn / 2.0) * np.sinc(turn / (2.0 * np.pi))
    return _stacked(
        along * motion[..., 0] - across * motion[..., 1],
        across * motion[..., 0] + along * motion[..., 1],
        wrap_angle(turn),
    )


def arc_velocity(motion: ArrayLike) -> FloatArray:
    """Return the constant velocity ``(..., 3)`` that leads to `motion` within a second: the inverse of `arc`.

    >>> arc_velocity(arc([0.5, 0.1, 0.8], 1.0)).round(9).tolist()
    [0.5, 0.1, 0.8]
    """
    m = np.asarray(motion, dtype=float)
    half = m[..., 2] / 2.0
    # Seen from the mean heading, the chord lies as the velocity does; the arc is longer by 1 / sinc.
    cosine, sine, longer = np.cos(half), np.sin(half), 1.0 / np.sinc(half / np.pi)
    return _stacked(
        longer * (cosine * m[..., 0] + sine * m[..., 1]), longer * (cosine * m[..., 1] - sine * m[..., 0]), m[..., 2]
    )


def turn_on_the_spot(pose: ArrayLike, turn: float, spacing: float) -> FloatArray:
    """Return the poses ``(N, 3)`` passed in a turn by so many radians, less than `spacing` apart, both ends among them.

    Headings go on beyond pi rather than wrap.
    """
    x, y, heading = np.asarray(pose, dtype=float)
    turns = np.linspace(0.0, turn, int(abs(turn) / spacing) + 2)
    return _stacked(np.full(len(turns), x), np.full(len(turns), y), heading + turns)


def interpolate_poses(times: ArrayLike, known_times: ArrayLike, known_poses: ArrayLike) -> FloatArray:
    """Interpolate a trajectory linearly, headings the short way round; held constant beyond both ends.

    Parameters
    ----------
    times : array_like, (M,)
        Where to look, seconds.
    known_times : array_like, (N,)
        Increasing, seconds.
    known_poses : array_like, (N, 3)

    Returns
    -------
    array, (M, 3)
    """
    wanted, stamps = np.asarray(times, dtype=float), np.asarray(known_times, dtype=float)
    poses = np.asarray(known_poses, dtype=float)
    if len(stamps) < 2:
        return np.broadcast_to(poses[:1], (len(wanted) if len(stamps) else 0, 3)).copy()
    result = np.empty((len(wanted), 3))
    interpolate(wanted, stamps, poses, result)
    return result
