"""Cells that look occupied by chance: beside a wall that far beams blurred, or where a single beam strayed."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import maximum_filter

__all__ = ["drop_chance_hits"]

BLUR = 5
"""Cells a side of the square about a cell in which a clear and far clearer one shows that it is only its blur."""
BLUR_SHARE = 0.2
"""Share of the clearest cell's log-odds there below which a cell is blur."""
CLEAR_HITS = 10
"""Sure hits from which a wall is clear; about glass, nothing is blur."""
BESIDE = np.ones((11, 11), bool)
BESIDE[5, 5] = False
"""Where another occupied cell makes a hit that stands alone likely to be no stray one."""


def drop_chance_hits(log_odds: NDArray[np.float32], hit_gain: float) -> None:
    """Make cells unknown that look occupied by chance, in place.

    Parameters
    ----------
    log_odds : array, (rows, columns), float32
        Of being occupied, not bounded yet: how clear a wall is counts here.
    hit_gain : float
        By how much a sure hit raises them. What rests on no more, with nothing occupied beside it, is a stray beam.
    """
    occupied = log_odds > 0.0
    clearest = maximum_filter(log_odds, size=BLUR)
    blurred = occupied & (log_odds < BLUR_SHARE * clearest) & (clearest > CLEAR_HITS * hit_gain)
    lone = occupied & (log_odds <= hit_gain) & ~maximum_filter(occupied, footprint=BESIDE, mode="constant")
    log_odds[blurred | lone] = 0.0
