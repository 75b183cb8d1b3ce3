"""Where one map of a floor lies on another."""

from __future__ import annotations

from dataclasses import dataclass

import numpy as np
from numpy.typing import NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import compose, transform_points
from vinecompass.grids import Grid, in_frame, likelihood_field
from vinecompass.matching import PoseSearch, SearchWindow, WallGrid, match_scan

__all__ = ["Alignment", "align_maps"]

FloatArray = NDArray[np.float64]
SEARCH_CELL, SEARCH_SPREAD = 0.1, 0.15
NEIGHBOURHOOD, PLACES_APART = 8.0, 4
"""Metres about a place whose walls are searched for on the other map, and how many places are tried."""
SEARCH_POINTS, ALIGN_POINTS = 120, 4000
ROUNDS = 6
LEAST_AGREEMENT = 0.5
"""Of the walls both maps show, below which they do not show the same floor."""


@dataclass(frozen=True)
class Alignment:
    """How a map lies on another.

    Parameters
    ----------
    pose : array, (3,)
        The site frame of the one in the site frame of the other, m and radians.
    agreement : float
        Mean likelihood, 0 to 1, of the walls of the one on the other, where the other was observed.
    """

    pose: FloatArray
    agreement: float


@checked
def align_maps(grid: Grid, reference: Grid) -> Alignment:
    """Find how a map lies on another of the same floor, wherever and however turned it is.

    The walls about a few places are searched for on the whole of the reference by branch and bound; the best finds,
    and the maps as they lie, are aligned by all walls, and the one that agrees best is taken.

    Raises
    ------
    InputError
        A map shows no walls, or nowhere do they agree.
    """
    points, walls = grid.occupied_points(), reference.occupied_points()
    if min(len(points), len(walls)) < 50:
        raise InputError("shows hardly any walls", key="map", expected="maps of one floor, to be laid over each other")
    fine = WallGrid.of_points(walls, cell_size=reference.cell_size, spread=0.08)
    chosen = points[:: -(-len(points) // ALIGN_POINTS)]
    field = likelihood_field(reference.occupied, reference.cell_size, 0.1)
    guesses = [np.zeros(3), *_finds(points, reference)]
    found = [_aligned(chosen, fine, reference, field, guess) for guess in guesses]
    best = max(found, key=lambda one: one.agreement)
    if best.agreement < LEAST_AGREEMENT:
        raise InputError(
            f"agree by {best.agreement:.2f} at best",
            key="maps",
            expected=f"{LEAST_AGREEMENT} or more: maps of one floor",
        )
    return best


def _finds(points: FloatArray, reference: Grid) -> list[FloatArray]:
    """Return poses at which the walls about some places are found on the reference, all of it searched."""
    level = in_frame(reference, [0.0, 0.0, reference.turn])
    search = PoseSearch.of_points(level.occupied_points(), cell_size=SEARCH_CELL, spread=SEARCH_SPREAD)
    extent = np.array(search.shape[::-1]) * SEARCH_CELL
    headings = np.radians(np.arange(-180.0, 180.0, 1.0))
    poses = []
    for place in _places(points):
        near = points[np.hypot(*(points - place).T) < NEIGHBOURHOOD] - place
        few = near[:: -(-len(near) // SEARCH_POINTS)]
        found = search.find(few, headings=headings, low=search.corner, high=search.corner + extent, least=0.5)
        if found is not None:
            in_level = compose(found.pose, [*-place, 0.0])
            poses.append(compose([0.0, 0.0, reference.turn], in_level))
    return poses


def _places(points: FloatArray) -> list[FloatArray]:
    """Return positions far from each other, beginning in the middle of the walls."""
    places = [np.median(points, axis=0)]
    while len(places) < PLACES_APART:
        away = np.min([np.hypot(*(points - place).T) for place in places], axis=0)
        # Not the outermost walls, which have little about them.
        places.append(0.3 * places[0] + 0.7 * points[int(np.argmax(away))])
    return places


def _aligned(
    points: FloatArray, walls: WallGrid, reference: Grid, field: NDArray[np.float32], guess: FloatArray
) -> Alignment:
    pose, window = guess, SearchWindow(0.1, np.radians(0.5), np.radians(0.25))
    for _ in range(ROUNDS):
        pose = match_scan(
            points, np.zeros(len(points)), walls, pose, window=window, prior_points=1e-3, doubt_sweep=False
        ).pose
    laid = transform_points(pose, points)
    seen = reference.values_at(laid, ~reference.unknown, outside=False)
    if np.mean(seen) < 0.1:
        return Alignment(pose, 0.0)
    return Alignment(pose, float(np.mean(reference.values_at(laid[seen], field, outside=0.0))))
