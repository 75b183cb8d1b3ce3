"""The differential drive: two driven wheels on one axle, the origin midway between them."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.robot import Drive

__all__ = ["axle_places", "differential_rolling"]


def differential_rolling(drive: Drive) -> NDArray[np.float64]:
    """Return how fast the rims of the left and the right wheel go for the body's velocity ``(2, 3)``."""
    assert drive.track_width is not None
    half = 0.5 * drive.track_width
    return np.array([[1.0, 0.0, -half], [1.0, 0.0, half]])


def axle_places(drive: Drive) -> NDArray[np.float64]:
    """Return where the left and the right wheel stand on the body ``(2, 2)``, m."""
    assert drive.track_width is not None
    half = 0.5 * drive.track_width
    return np.array([[0.0, half], [0.0, -half]])
