"""Weighs where odometry has a robot in a submap against where its scans fit, and learns how far odometry errs."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose, compose_covariances, wrap_angle
from vinecompass.matching import Match

__all__ = ["PlaceFilter"]

FloatArray = NDArray[np.float64]
ODOMETRY_NOISE = np.array([0.006, 0.006, np.radians(0.1)]) ** 2
"""Variance of what the odometry says of a metre of way, m2 and rad2: of a good one, which others are beside."""
TURN_NOISE = 0.005
"""Share of what is turned by which it errs besides."""
LEAST, MOST, AT_FIRST = 1.0, 400.0, 9.0
"""Times that noise that odometry may have, and is taken to have before anything is known."""
LEARNED, SURPRISING = 0.15, 10.0
"""How fast that is learned from each match, and times its expected square beyond which one surprise counts no more."""

SURPRISE = 5.0
"""Times its expected square from which an innovation is not believed to be chance."""

SCALE_SPREAD = 0.004
"""Standard deviation of the share by which even a good odometry tells too short a way, all along."""
CALMER = 0.4
"""Mean square of innovations by what is expected of it, measured on nine runs of a good odometry."""


class PlaceFilter:
    """A Kalman filter over the body's pose in a submap: predicted by the odometry, corrected by matches.

    How far the odometry errs, or how many times farther than it says itself, is learned by comparing innovations with
    what they should be (Mehra, 1970).

    Parameters
    ----------
    scale : float
        To begin with.

    Attributes
    ----------
    covariance : array, (3, 3)
        Of the pose in the submap, m2 and rad2.
    noise_factor : float
        How many times as large as that of a good one the odometry's variance is, or as it says itself.
    scale : float
        By which the odometry's ways are to be multiplied: worn wheels tell too long ones all along.
    """

    def __init__(self, scale: float) -> None:
        self._scale_information = SCALE_SPREAD**-2
        self._scale_told = (scale - 1.0) * self._scale_information
        self.forget()

    @property
    def scale(self) -> float:
        """What matches tell of it so far: least squares of how far they were off on the way since the one before."""
        return 1.0 + self._scale_told / self._scale_information

    def forget(self) -> None:
        """Begin in another submap, by an odometry that nothing is known of but its scale."""
        self.covariance = np.zeros((3, 3))
        self.noise_factor = AT_FIRST
        self._gone = np.zeros(2)

    def predict(self, place: FloatArray, step: FloatArray, told: FloatArray | None) -> FloatArray:
        """Return the pose ``(3,)`` after a step ``(3,)`` of the odometry from a pose ``(3,)`` in the submap.

        `told` is the covariance of the step ``(3, 3)`` in the body's axes; None if the odometry does not tell it.
        """
        good = np.diag(ODOMETRY_NOISE * float(np.hypot(step[0], step[1])))
        # In the submap no step is known better than to what a good odometry errs: its walls are drawn in cells.
        noise = self.noise_factor * good if told is None else self.noise_factor * told + good
        noise[2, 2] += (TURN_NOISE * step[2]) ** 2
        self.covariance = compose_covariances(place, step, self.covariance, noise)
        predicted = compose(place, step)
        self._gone = self._gone + predicted[:2] - place[:2]
        return predicted

    def correct(self, place: FloatArray, match: Match) -> FloatArray:
        """Return the pose ``(3,)`` between the one predicted and the match's, and learn from how far they are apart."""
        off, squared = self._innovation(place, match)
        if squared < SURPRISE:
            self._learn_scale(off[:2], (self.covariance + match.covariance)[:2, :2])
        self._gone = np.zeros(2)
        gain = np.linalg.solve(self.covariance + match.covariance, self.covariance).T
        change = np.exp(LEARNED * (min(squared, SURPRISING) - 1.0))
        self.noise_factor = float(np.clip(self.noise_factor * change, LEAST, MOST))
        self.covariance = (np.eye(3) - gain) @ self.covariance
        corrected = place + gain @ off
        corrected[2] = wrap_angle(corrected[2])
        return np.asarray(corrected)

    def surprised_by(self, place: FloatArray, match: Match) -> bool:
        """Tell whether a match is farther from the pose ``(3,)`` predicted than both can err."""
        return self._innovation(place, match)[1] > SURPRISE

    def take(self, match: Match) -> None:
        """Believe a match alone: the odometry was wrong."""
        self.covariance = match.covariance
        self._gone = np.zeros(2)

    def _learn_scale(self, off: FloatArray, expected: FloatArray) -> None:
        """Learn from how far ``(2,)`` a match is off after the way since the one before, and how far it is expected."""
        weights = np.linalg.solve(CALMER * expected, self._gone)
        # As far as it would be off if nothing had been learned yet.
        self._scale_told += float(weights @ (off + (self.scale - 1.0) * self._gone))
        self._scale_information += float(weights @ self._gone)

    def _innovation(self, place: FloatArray, match: Match) -> tuple[FloatArray, float]:
        """Return how far a match is from the pose predicted ``(3,)``, and its square by what is expected of it."""
        off = match.pose - place
        off[2] = wrap_angle(off[2])
        return off, float(off @ np.linalg.solve(self.covariance + match.covariance, off)) / 3.0
