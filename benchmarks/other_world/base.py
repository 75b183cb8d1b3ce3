"""A base of the second world: it does what it was told a while ago, follows it with a lag, and tells its odometry."""

from __future__ import annotations

from collections import deque

import numpy as np
from numpy.typing import NDArray

__all__ = ["OtherBase"]

STEP = 0.005
"""Seconds."""
TRACK_WIDTH = 0.5
"""Metres between the wheels."""


class OtherBase:
    """Where a base is in truth, and where its odometry believes it to be.

    Parameters
    ----------
    pose : array, (3,)
        In the site, m and radians.
    delay, lag : float
        Seconds from a command to its effect, and of the first-order lag with which the base follows.
    radius : float
        The least one it can turn on, m; 0 where it turns on the spot.
    sideways : bool
    scales : array, (3,)
        What the odometry makes of each metre ahead and to the left and of each radian.
    noise : float
        Of the odometry, a share of the way, per root of a metre.
    rng : numpy.random.Generator
    least : tuple of float
        m/s and rad/s below which it stands.
    """

    def __init__(
        self,
        pose: NDArray[np.float64],
        *,
        delay: float,
        lag: float,
        radius: float,
        sideways: bool,
        scales: NDArray[np.float64],
        noise: float,
        rng: np.random.Generator,
        least: tuple[float, float] = (0.0, 0.0),
    ) -> None:
        self.t = 0.0
        self.pose = np.array(pose, dtype=float)
        self.velocity = np.zeros(3)
        self.odometry = np.zeros(3)
        self.grip = 1.0
        self.dead_wheel = False
        self.spins = False
        self._delay, self._lag, self._radius, self._sideways = delay, lag, radius, sideways
        self._scales, self._noise, self._rng, self._least = scales, noise, rng, least
        self._told: deque[tuple[float, NDArray[np.float64]]] = deque([(-1.0, np.zeros(3))])

    def tell(self, velocity: NDArray[np.float64]) -> None:
        """Give a command: speeds ahead and to the left, m/s, and a turn rate, rad/s."""
        self._told.append((self.t + self._delay, np.array(velocity, dtype=float)))

    def go_on(self) -> None:
        """Move on by one `STEP`."""
        self.t += STEP
        while len(self._told) > 1 and self._told[1][0] <= self.t:
            self._told.popleft()
        wanted = self._told[0][1].copy()
        if not self._sideways:
            wanted[1] = 0.0
        if self._radius > 0.0:
            wanted[2] = np.clip(wanted[2], -abs(wanted[0]) / self._radius, abs(wanted[0]) / self._radius)
        if np.hypot(*wanted[:2]) < self._least[0]:
            wanted[:2] = 0.0
            wanted[2] = 0.0 if abs(wanted[2]) < self._least[1] else wanted[2]
        if self.dead_wheel:
            # The left one stands: the body turns about it, as fast as the right one drives.
            right = wanted[0] + 0.5 * TRACK_WIDTH * wanted[2]
            wanted = np.array([0.5 * right, 0.0, right / TRACK_WIDTH])
        share = 1.0 if self._lag <= 0.0 else STEP / (self._lag + STEP)
        self.velocity += share * (self.grip * wanted - self.velocity)
        moved = STEP * self.velocity
        if not self.spins:
            self.pose = _moved(self.pose, moved)
        spread = self._noise * np.sqrt(np.abs(moved) / 1.0)
        self.odometry = _moved(
            self.odometry, self._scales * moved / max(self.grip, 0.2) + spread * self._rng.normal(size=3)
        )


def _moved(pose: NDArray[np.float64], moved: NDArray[np.float64]) -> NDArray[np.float64]:
    """Go on from a pose along a short arc, by its chord."""
    middle = pose[2] + 0.5 * moved[2]
    c, s = np.cos(middle), np.sin(middle)
    return pose + [c * moved[0] - s * moved[1], s * moved[0] + c * moved[1], moved[2]]
