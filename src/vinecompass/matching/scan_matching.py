"""Scan matching: where a scan fits best on a likelihood field, near a first guess."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.geometry import wrap_angle
from vinecompass.matching.kernels import best_offset, refine

__all__ = ["Field", "Match", "SearchWindow", "match_scan"]

FloatArray = NDArray[np.float64]
MOST_ITERATIONS = 12
SEARCH_POINTS = 120
"""Points that the search over the window looks at; the refinement uses them all."""


@dataclass(frozen=True)
class Field:
    """A likelihood field over the floor.

    Parameters
    ----------
    values : array, (rows, columns), float32
        Agreement with the map, 0 to 1.
    cell_size : float
        Metres.
    corner : array, (2,)
        The outer corner of cell ``[0, 0]``, m.
    """

    values: NDArray[np.float32]
    cell_size: float
    corner: FloatArray


@dataclass(frozen=True)
class SearchWindow:
    """What the search tries about the guess: `reach` metres each way and `turn` radians each way."""

    reach: float
    turn: float
    turn_step: float


@dataclass(frozen=True)
class Match:
    """Where a scan fits.

    Parameters
    ----------
    pose : array, (3,)
        The body's pose in the field's outer frame, m and radians.
    agreement : float
        Mean of the field at the scan's points, 0 to 1.
    """

    pose: FloatArray
    agreement: float


def match_scan(
    points: FloatArray, field: Field, guess: ArrayLike, *, window: SearchWindow, prior_weights: ArrayLike
) -> Match:
    """Fit a scan to a likelihood field: a correlative search over a window, then Gauss-Newton.

    Parameters
    ----------
    points : array, (N, 2)
        What the beams hit, in the body frame, m.
    field : Field
    guess : array_like, (3,)
        The body's pose as the odometry has it.
    window : SearchWindow
    prior_weights : array_like, (3,)
        How firmly the refinement holds on to the guess, relative to the scan: per point, in 1/m2, 1/m2 and 1/rad2.
        It decides only where the scan itself does not (along a plain aisle).

    Notes
    -----
    The search follows Olson (2009), "Real-time correlative scan matching"; the refinement is the least-squares
    fit to a smooth field of Biber and Strasser (2003) and later authors.
    """
    scale = 1.0 / field.cell_size
    cells = np.asarray(points, dtype=float) * scale
    first = np.asarray(guess, dtype=float).copy()
    first[:2] = (first[:2] - field.corner) * scale
    every = max(len(cells) // SEARCH_POINTS, 1)
    steps = int(np.ceil(window.reach * scale))
    turn_steps = int(np.ceil(window.turn / window.turn_step))
    pose, _ = best_offset(
        field.values, np.ascontiguousarray(cells[::every]), first,
        np.arange(-turn_steps, turn_steps + 1) * window.turn_step, steps,
    )  # fmt: skip
    weights = len(cells) * np.asarray(prior_weights, dtype=float) / np.array([scale**2, scale**2, 1.0])
    pose, agreement = refine(field.values, cells, pose, first, weights, MOST_ITERATIONS)
    pose[:2] = pose[:2] * field.cell_size + field.corner
    pose[2] = wrap_angle(pose[2])
    return Match(pose, float(agreement))

