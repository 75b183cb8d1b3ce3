"""How the price falls from contact to comfort: named shapes, and the layer made of them."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.grids import Grid
from vinecompass.robot import Robot
from vinecompass.settings import Fall

__all__ = ["FALLS", "ClearanceLayer", "price_at_gap"]

FALLS = {
    "line": lambda share: 1.0 - share,
    "parabola": lambda share: (1.0 - share) ** 2,
    # Down to a hundredth at comfort, and shifted so that it ends there.
    "exponential": lambda share: (np.exp(np.log(0.01) * share) - 0.01) / 0.99,
}
"""What is left of the price above 1 at a share of the way from contact (0) to comfort (1)."""


def price_at_gap(gap: NDArray[np.float32], *, contact_price: float, comfort: float, fall: Fall) -> NDArray[np.float32]:
    """Return the price at gaps between the body, at its narrowest, and closed floor, m.

    `inf` below 0, `contact_price` at 0, 1 from `comfort` on, and in between as `fall` says.

    >>> price_at_gap(np.array([-0.1, 0.0, 0.3, 0.6], np.float32), contact_price=9.0, comfort=0.6, fall="line").tolist()
    [inf, 9.0, 5.0, 1.0]
    """
    share = np.clip(gap / np.float32(comfort), 0.0, 1.0)
    factors = np.float32(1.0) + np.float32(contact_price - 1.0) * FALLS[fall](share).astype(np.float32)
    factors[gap < 0.0] = np.inf
    return factors


@dataclass(frozen=True)
class ClearanceLayer:
    """Floor near what is closed: closed where the body cannot be at any heading, dear where it is near.

    Parameters
    ----------
    clearance : array, (rows, columns)
        Distance of each cell's centre to the nearest closed one, m.
    contact_price : float
        The factor where the body, at its narrowest, would just touch.
    comfort : float
        Distance between body and obstacle from which floor costs nothing extra, m.
    fall : {"line", "parabola", "exponential"}
        How it falls in between.
    """

    clearance: NDArray[np.float32]
    contact_price: float
    comfort: float
    fall: Fall = "parabola"
    name: str = "clearance"

    def charge(self, grid: Grid, robot: Robot) -> NDArray[np.float32]:
        """Charge by the gap that the body leaves at its narrowest."""
        gap = self.clearance - np.float32(robot.body.inner_radius + grid.cell_size / 2.0)
        return price_at_gap(gap, contact_price=self.contact_price, comfort=self.comfort, fall=self.fall)
