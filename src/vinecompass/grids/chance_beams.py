"""Cells that look occupied or free by chance: where far beams blurred a wall, or where single beams strayed."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray
from scipy.ndimage import label, maximum_filter, mean

__all__ = ["drop_chance_hits", "drop_chance_passes"]

BLUR = 5
"""Cells a side of the square about a cell in which a clear and far clearer one shows that it is only its blur."""
BLUR_SHARE = 0.2
"""Share of the clearest cell's log-odds there below which a cell is blur."""
CLEAR_HITS = 10
"""Sure hits from which a wall is clear; about glass, nothing is blur."""
BESIDE = np.ones((11, 11), bool)
BESIDE[5, 5] = False
"""Where another occupied cell makes a hit that stands alone likely to be no stray one."""
SINGLE, MOSTLY_SINGLE = 1.5, 0.5
"""Passes below which a cell is free by one beam alone, and share of such cells from which floor is there by chance."""


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


def drop_chance_passes(log_odds: NDArray[np.float32], pass_loss: float) -> None:
    """Make cells unknown that look free by chance, in place.

    A stray beam that reads too far clears a line through a wall. Behind the wall that line has no part in the floor
    that the robot looked over, the largest piece, and few cells of it were passed by another beam.

    Parameters
    ----------
    log_odds : array, (rows, columns), float32
        Of being occupied, not bounded yet.
    pass_loss : float
        By how much a beam that passes lowers them.
    """
    pieces, count = label(log_odds < 0.0)
    if count == 0:
        return
    numbers = np.arange(count + 1)
    by_chance = mean(log_odds > -SINGLE * pass_loss, pieces, numbers) > MOSTLY_SINGLE
    largest = 1 + int(np.argmax(np.bincount(pieces.ravel())[1:]))
    by_chance[0] = by_chance[largest] = False
    log_odds[by_chance[pieces]] = 0.0
