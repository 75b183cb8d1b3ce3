"""The omni drive: three wheels or more with free rollers about their rims."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.robot import Drive

__all__ = ["omni_places", "omni_rolling"]


def omni_rolling(drive: Drive) -> NDArray[np.float64]:
    """Return how fast the rim of each wheel goes for the body's velocity ``(wheels, 3)``.

    A wheel at (x, y) rolls as the floor passes under it in its direction; free rollers set at an angle make that the
    direction turned by the angle (Siegwart and Nourbakhsh, 2004, section 3.2).
    """
    return np.array([wheel.rolling for wheel in drive.wheels])


def omni_places(drive: Drive) -> NDArray[np.float64]:
    """Return where the wheels stand on the body ``(wheels, 2)``, m."""
    return np.array([wheel.position for wheel in drive.wheels])
