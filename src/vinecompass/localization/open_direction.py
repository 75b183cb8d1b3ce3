"""The open direction: along plain walls scans do not show where they were taken."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.geometry import compose
from vinecompass.localization.measurement_model import MeasurementModel

__all__ = ["OpenDirection", "spread_along"]

FloatArray = NDArray[np.float64]
STEPS = np.arange(-5, 6)[:, None] * np.array([0.1, 0.1, 0.0])
"""Metres along a line, to either side, at which scans are tried."""
NEIGHBOURS = 0.5
"""Metres within which two ends of beams that follow one another lie on one thing."""
NEW, SAME_LINE = 0.2, 0.9
"""How much one scan counts beside those before it, and the cosine of the angle within which their line is the same."""
BY_CHANCE = 0.2
"""How much a scan's likelihood changes at most along walls that show nothing, by the raster of the map and the noise of
ranges: the standard deviation of its logarithm, for each root of a beam."""


class OpenDirection:
    """Watches along which line scans do not show where they were taken."""

    def __init__(self) -> None:
        self._line = np.zeros(2)
        self._profile = np.zeros(len(STEPS))
        """How likely scans of late were farther along the line and less far."""
        self._scatter = 1.0
        """How much less that scatters by chance than one scan's."""

    def look(
        self, model: MeasurementModel, pose: FloatArray, origins: FloatArray, ends: FloatArray
    ) -> FloatArray | None:
        """Take in a scan; return the direction ``(2,)`` that it and those before leave open, None if there is none.

        It is the one in which most of what the scan hit runs, if scans are as likely from half a metre to either side.

        Parameters
        ----------
        model : MeasurementModel
        pose : array, (3,)
            Where it was taken, about, in the site frame.
        origins, ends : array, (M, 2)
            Of all its beams that returned, in their order, in the body frame, m.

        Returns
        -------
        array, (2,), or None
            Of length 1, in the site frame.
        """
        steps = np.diff(ends, axis=0)
        steps = steps[np.hypot(steps[:, 0], steps[:, 1]) < NEIGHBOURS]
        lengths = np.maximum(np.hypot(steps[:, 0], steps[:, 1]), 1e-9)
        along = np.linalg.eigh((steps / lengths[:, None]).T @ steps)[1][:, 1]
        tried = compose(pose, STEPS * np.append(along, 0.0))
        likely = model.log_likelihoods(tried, origins, ends) / np.sqrt(len(ends))
        line = tried[-1, :2] - tried[0, :2]
        line /= np.hypot(line[0], line[1])
        if line @ self._line < 0.0:
            line, likely = -line, likely[::-1]
        likely = likely - likely.mean()
        if line @ self._line < SAME_LINE:
            self._profile, self._scatter = likely, 1.0
        else:
            self._profile = (1.0 - NEW) * self._profile + NEW * likely
            self._scatter = float(np.hypot((1.0 - NEW) * self._scatter, NEW))
        self._line = line
        return line if np.std(self._profile) < BY_CHANCE * self._scatter else None


def spread_along(particles: FloatArray, others: FloatArray, line: FloatArray) -> FloatArray:
    """Return particles ``(N, 3)`` moved along a line ``(2,)`` to where as many others are on it, each to one."""
    moved = particles.copy()
    moved[:, :2] += np.outer((others[:, :2] - particles[:, :2]) @ line, line)
    return moved
