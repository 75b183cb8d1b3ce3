"""Beams that are not where the robot's file has them."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.robot import Lidar

__all__ = ["refuse_other_beams"]

FloatArray = NDArray[np.float64]
AS_FAR_APART = (0.67, 1.5)
"""Of the file's beams, how far apart those of a table may be."""
MOST_ELSEWHERE = 0.1
"""Share of the beams that may lie out of the file's, or that the first may be from the file's first."""


def refuse_other_beams(numbers: FloatArray, firsts: FloatArray, lidar: Lidar, path: Path) -> None:
    """Raise `InputError` unless a table's beams lie about where the lidar's file has them.

    Parameters
    ----------
    numbers : array (N,)
        Of all readings as they fired: see `Lidar.beam_numbers`.
    firsts : array (M,)
        Of the first reading of each scan, as far as it is known.
    lidar : Lidar
    path : Path
        Named in errors.
    """
    step = (lidar.last_beam_deg - lidar.first_beam_deg) / (lidar.beams - 1)
    apart = float(np.median(np.diff(numbers))) if len(numbers) > 1 else 1.0
    elsewhere = numbers > lidar.beams - 0.5
    first = float(np.median(firsts)) if len(firsts) else 0.0
    if not AS_FAR_APART[0] <= apart <= AS_FAR_APART[1]:
        told = f"{apart * step:.3g} degrees from each to the next"
        expected = f"{step:.3g}, as beams, first_beam_deg and last_beam_deg"
    elif np.mean(elsewhere) > MOST_ELSEWHERE:
        told = f"{100.0 * np.mean(elsewhere):.0f} % of them elsewhere"
        expected = f"{lidar.first_beam_deg:g} to {lidar.last_beam_deg:g} degrees, as first_beam_deg and last_beam_deg"
    elif abs(first) > MOST_ELSEWHERE * lidar.beams:
        told = f"the first at {lidar.first_beam_deg + first * step:.3g} degrees"
        expected = f"{lidar.first_beam_deg:g}, as first_beam_deg"
    else:
        return
    problem = "are not the beams of the robot's lidar"
    raise InputError(problem, file=path, key="angles", value=told, expected=f"{expected} of its file")
