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
FIRST_OFF = 0.1
"""Share of the file's beams that the first of a scan may be from the file's first."""


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
    # A beam before the first, and one behind the last, are where angles tremble.
    elsewhere = (numbers > lidar.beams) & (numbers < 360.0 / abs(step) - 1.0)
    first = float(np.median(firsts)) if len(firsts) else 0.0
    if not AS_FAR_APART[0] <= apart <= AS_FAR_APART[1]:
        told = f"{apart * step:.3g} degrees from each to the next"
        expected = f"{step:.3g}, as beams, first_beam_deg and last_beam_deg"
    elif np.any(elsewhere):
        told = f"{np.count_nonzero(elsewhere)} of {len(numbers)} elsewhere"
        expected = f"{lidar.first_beam_deg:g} to {lidar.last_beam_deg:g} degrees, as first_beam_deg and last_beam_deg"
    elif abs(first) > FIRST_OFF * lidar.beams:
        told = f"the first at {lidar.first_beam_deg + first * step:.3g} degrees"
        expected = f"{lidar.first_beam_deg:g}, as first_beam_deg"
    else:
        return
    problem = "are not the beams of the robot's lidar"
    raise InputError(problem, file=path, key="angles", value=told, expected=f"{expected} of its file")
