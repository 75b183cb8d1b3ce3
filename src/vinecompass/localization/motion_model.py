"""Motion models: particles moved by the odometry, each spoilt by a noise of its own."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.optimize import nnls

from vinecompass.errors import InputError
from vinecompass.geometry import arc, distance_along, relative
from vinecompass.localization.kernels import move_particles
from vinecompass.motion import kind_of
from vinecompass.robot import Drive
from vinecompass.runs import Track
from vinecompass.settings import LocalizationSettings

__all__ = ["MotionNoise", "learn_motion_noise", "sample_increments", "sample_velocities"]

FloatArray = NDArray[np.float64]
LEAST_SPREAD = 3e-4
"""Metres and radians of noise in each step, moving or not: it keeps the particles apart at standstill."""


@dataclass(frozen=True)
class MotionNoise:
    """How odometry errs, as a random walk: variances grow with the way and the turn, however finely they are cut.

    Parameters
    ----------
    distance, sideways : float
        Standard deviation along and across the way, m per root of a metre. An omni drive errs by `distance` both
        ways, since its wheels slip both ways.
    turn : float
        Standard deviation of the heading by turning, rad per root of a radian.
    turn_per_metre : float
        And by driving, rad per root of a metre.
    slip_share : float
        Share of the particles, 0 to 1, that take the odometry to be off by far more, as when wheels slip.
    slip_factor : float
        How many times more.
    """

    distance: float
    sideways: float
    turn: float
    turn_per_metre: float
    slip_share: float = 0.0
    slip_factor: float = 1.0

    @classmethod
    def of(cls, settings: LocalizationSettings) -> MotionNoise:
        """Return the noise that the settings say."""
        s = settings
        return cls(
            s.distance_noise, s.sideways_noise, s.turn_noise, s.turn_noise_per_metre, s.slip_share, s.slip_factor
        )

    def spreads(self, drive: Drive, way: float, turn: float) -> FloatArray:
        """Return the standard deviations ``(3,)`` of a step: ahead, left, m, and turned, radians."""
        root = np.sqrt(way)
        across = self.distance if kind_of(drive).goes_sideways else self.sideways
        turned = np.sqrt(self.turn**2 * abs(turn) + self.turn_per_metre**2 * way)
        return np.array([self.distance * root, across * root, turned]) + LEAST_SPREAD

    def normals(self, count: int, rng: np.random.Generator) -> FloatArray:
        """Return noise ``(count, 3)`` in units of the spreads: normal, and of some particles `slip_factor` as wide."""
        drawn = rng.standard_normal((count, 3))
        # The particles have no order, so it may as well be the first ones whose wheels slip.
        drawn[: round(self.slip_share * count)] *= self.slip_factor
        return drawn


def sample_increments(
    poses: FloatArray,
    step: FloatArray,
    drive: Drive,
    noise: MotionNoise,
    rng: np.random.Generator,
    *,
    told: FloatArray | None = None,
) -> FloatArray:
    """Move poses ``(N, 3)`` by one step of the odometry ``(3,)``, as seen from the pose before it, each a little off.

    Where the odometry tells a covariance of the step ``(3, 3)`` that is larger than the noise, that is taken.

    Notes
    -----
    As the odometry motion model of Thrun, Burgard and Fox (2005), "Probabilistic Robotics", section 5.4, with the
    error taken in the body's own axes, so that it suits drives that move sideways too.
    """
    spreads = noise.spreads(drive, float(np.hypot(step[0], step[1])), float(step[2]))
    if told is not None:
        spreads = np.maximum(spreads, np.sqrt(np.diagonal(told)))
    return np.asarray(move_particles(poses, step + spreads * noise.normals(len(poses), rng)))


def sample_velocities(
    poses: FloatArray,
    velocity: ArrayLike,
    duration: float,
    drive: Drive,
    noise: MotionNoise,
    rng: np.random.Generator,
) -> FloatArray:
    """Move poses ``(N, 3)`` along arcs of a velocity (m/s, m/s, rad/s) that lasted `duration` seconds.

    Each takes an arc of its own velocity, and ends with a turn of its own on the spot, without which all would lie
    on one line. A car's turn rate comes from its steering, so it errs with the way and not with the turn.

    Notes
    -----
    The velocity motion model of Thrun, Burgard and Fox (2005), "Probabilistic Robotics", section 5.3.
    """
    v = np.asarray(velocity, dtype=float)
    way, turn = float(np.hypot(v[0], v[1])) * duration, float(v[2]) * duration
    spreads = noise.spreads(drive, way, turn if kind_of(drive).turns_on_the_spot else 0.0)
    if not kind_of(drive).goes_sideways:
        spreads[1] = 0.0
    spoilt = v + spreads / max(duration, 1e-9) * noise.normals(len(poses), rng)
    moved = np.asarray(move_particles(poses, arc(spoilt, duration)))
    moved[:, 2] += 0.5 * spreads[2] * rng.standard_normal(len(poses))
    return moved


def learn_motion_noise(odometry: Track, reference: Track, *, every: float = 0.5) -> MotionNoise:
    """Learn how odometry errs from a drive for which the poses are known: the truth, or a run localized well.

    Parameters
    ----------
    odometry : Track
        In the track frame.
    reference : Track
        In the site frame.
    every : float
        Metres of way between the poses compared. Slip lasts: over steps shorter than it, errors seem too small.

    Raises
    ------
    InputError
        Fewer than 20 steps: less than 10 m of way.

    Examples
    --------
    >>> from vinecompass.runs import Track
    >>> t = np.arange(0.0, 101.0)
    >>> true = Track(t, np.stack([0.5 * t, 0.0 * t, 0.0 * t], axis=-1))
    >>> slips = np.random.default_rng(1).normal(0.0, 0.1 * np.sqrt(0.5), 101)
    >>> read = Track(t, np.stack([0.5 * t + np.cumsum(slips), 0.0 * t, 0.0 * t], axis=-1))
    >>> round(learn_motion_noise(read, true).distance, 1)
    0.1
    """
    inside = (odometry.t >= reference.t[0]) & (odometry.t <= reference.t[-1])
    t = odometry.t[inside]
    true = reference.at(t)
    way = distance_along(true)
    chosen = np.unique(np.searchsorted(way, np.arange(0.0, way[-1], every))) if len(way) else np.zeros(0, int)
    if len(chosen) < 20:
        raise InputError(
            "is too short to learn from",
            key="reference",
            value=f"{max(len(chosen) - 1, 0)} steps",
            expected=f"20 steps of {every:g} m or more",
        )
    read = odometry.at(t)[chosen]
    step, true_step = relative(read[1:], read[:-1]), relative(true[chosen][1:], true[chosen][:-1])
    off = relative(true_step, step)
    lengths, turns = np.diff(way[chosen]), np.abs(true_step[:, 2])
    # Least squares of the squared errors on what the model says of them: neither share can be negative.
    shares, _ = nnls(np.stack([turns, lengths], axis=-1), off[:, 2] ** 2)
    along, across = (float(np.sqrt(np.mean(off[:, axis] ** 2 / lengths))) for axis in (0, 1))
    return MotionNoise(along, across, float(np.sqrt(shares[0])), float(np.sqrt(shares[1])))
