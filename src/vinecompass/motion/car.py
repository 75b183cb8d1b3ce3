"""The car: two driven wheels on the rear axle, and steered wheels ahead of it, which bound how tightly it turns."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.motion.differential import differential_rolling
from vinecompass.robot import Drive

__all__ = ["car_rolling"]


def car_rolling(drive: Drive) -> NDArray[np.float64]:
    """Return how fast the rims of the rear wheels go for the body's velocity ``(2, 3)``: as a differential drive's."""
    return differential_rolling(drive)
