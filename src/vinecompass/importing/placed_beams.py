"""Readings at any angles, put on the beams that a lidar's file gives it."""

from __future__ import annotations

from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.robot import Lidar

__all__ = ["beam_numbers", "on_beams", "refuse_other_beams"]

FloatArray = NDArray[np.float64]
NEIGHBOURS = 1.5
"""Beams that two readings may be apart for what lies between them to be known."""
ONE_SURFACE = 0.05
"""Share of their range by which two neighbours on one surface differ at most: a wall met at 20 degrees, 1 apart."""
AS_FAR_APART = (0.67, NEIGHBOURS)
"""Of the file's beams, how far apart those of a table may be."""
MOST_ELSEWHERE = 0.1
"""Share of the beams that may lie out of the file's, or that the first may be from the file's first."""


def beam_numbers(angles: FloatArray, lidar: Lidar) -> FloatArray:
    """Return where angles ``(N,)``, radians, lie among a lidar's beams: 2.5 is midway between two of them."""
    first, step = lidar.beam_angles[0], lidar.beam_angles[1] - lidar.beam_angles[0]
    around = abs(2.0 * np.pi / step)
    return np.asarray(np.mod((angles - first) / step + 0.5, around) - 0.5)


def refuse_other_beams(numbers: FloatArray, firsts: FloatArray, lidar: Lidar, path: Path) -> None:
    """Raise `InputError` unless a table's beams lie about where the lidar's file has them.

    Parameters
    ----------
    numbers : array (N,)
        Of all readings as they fired: see `beam_numbers`.
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


def on_beams(ranges: FloatArray, numbers: FloatArray, beams: int) -> FloatArray:
    """Return the readings of one scan as ranges ``(beams,)``, `nan` where no reading lies within half a beam.

    Between two neighbours on one surface ranges are linear; elsewhere a beam has the reading nearest to it.

    Parameters
    ----------
    ranges : array (N,)
        In any unit; what is not finite is taken as it is.
    numbers : array (N,)
        Where each lies among the beams: see `beam_numbers`.
    beams : int

    Examples
    --------
    >>> on_beams(np.array([2.0, 2.02, 5.0]), np.array([0.5, 1.5, 2.5]), 4).tolist()
    [2.0, 2.01, 2.02, 5.0]
    """
    order = np.argsort(numbers, kind="stable")
    places = np.concatenate([[-np.inf], numbers[order], [np.inf]])
    padded = np.concatenate([[np.nan], ranges[order], [np.nan]])
    wanted = np.arange(beams)
    after = np.searchsorted(places, wanted)
    # What is not finite is on no surface.
    with np.errstate(invalid="ignore"):
        back, ahead = wanted - places[after - 1], places[after] - wanted
        low, high = padded[after - 1], padded[after]
        nearest = np.where(back < ahead, low, high)
        near = np.abs(high - low) <= ONE_SURFACE * np.minimum(np.abs(low), np.abs(high))
        alike = near & (back + ahead <= NEIGHBOURS)
        between = low + back / (back + ahead) * (high - low)
    return np.where(alike, between, np.where(np.minimum(back, ahead) <= 0.5, nearest, np.nan))
