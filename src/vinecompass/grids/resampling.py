"""Grids laid anew: other cells, another turn, another frame."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy import ndimage

from vinecompass.errors import InputError
from vinecompass.geometry import inverse, relative, transform_points
from vinecompass.grids.grid import DECIDED, MOST_CELLS, Grid

__all__ = ["cropped", "in_frame", "main_direction", "overlaid", "resampled", "strongest"]

SAMPLES = 3
"""A side, of the old grid in each new cell."""
SMEAR = 2.0
"""Cells over which the slope of a map is taken to tell the direction of its walls."""
PEAK_STEP, PEAK_STEPS = np.radians(0.02), 50
"""Radians, and how many of them to each side, in which the direction is refined."""


def in_frame(grid: Grid, frame: ArrayLike) -> Grid:
    """Return the same cells as seen from another frame, a pose ``(3,)`` in the site frame; nothing is resampled."""
    x, y, turn = relative(grid.frame, frame)
    doubt = None if grid.doubt is None else grid.doubt.seen_from(frame)
    return replace(grid, corner=(float(x), float(y)), turn=float(turn), doubt=doubt)


def cropped(grid: Grid, low: ArrayLike, high: ArrayLike) -> Grid:
    """Return the cells with their centre between two corners ``(2,)`` in the site frame, m.

    What lies outside of the corners in a turned grid reads as never observed. Raises `InputError` if no cell is left.
    """
    first, last = np.asarray(low, dtype=float), np.asarray(high, dtype=float)
    rows, columns = np.mgrid[: grid.shape[0], : grid.shape[1]]
    centres = grid.points_of(np.stack([rows.ravel(), columns.ravel()], axis=-1))
    inside = np.all((centres >= first) & (centres <= last), axis=1).reshape(grid.shape)
    kept_rows, kept_columns = np.flatnonzero(inside.any(axis=1)), np.flatnonzero(inside.any(axis=0))
    if len(kept_rows) == 0:
        raise InputError(
            "lies off the map",
            key="crop",
            value=[*first.tolist(), *last.tolist()],
            expected="two corners with cells of the map between them",
        )
    part = np.s_[kept_rows[0] : kept_rows[-1] + 1, kept_columns[0] : kept_columns[-1] + 1]
    corner = transform_points(grid.frame, np.array([[kept_columns[0], kept_rows[0]]]) * grid.cell_size)[0]
    log_odds = np.where(inside[part], grid.log_odds[part], np.float32(0.0))
    return replace(grid, log_odds=log_odds, corner=(float(corner[0]), float(corner[1])))


def resampled(grid: Grid, cell_size: float, turn: float = 0.0) -> Grid:
    """Return the map in cells of another size, or with its columns axis at another heading in the site frame.

    A new cell is occupied if any part of it was, so that no wall gets a hole; else it takes the mean.

    Parameters
    ----------
    grid : Grid
    cell_size : float
        Metres.
    turn : float
        Radians.

    Raises
    ------
    InputError
        The map would have more cells than a picture may have.
    """
    local = transform_points([0.0, 0.0, -turn], grid.corner_points)
    # Whole cells from the origin, so that maps of one floor keep to one raster.
    low = np.floor(local.min(axis=0) / cell_size + 1e-6)
    high = np.ceil(local.max(axis=0) / cell_size - 1e-6)
    if float(np.prod(high - low)) > MOST_CELLS:
        raise InputError(
            f"makes {float(np.prod(high - low)):.3g} cells",
            key="cell_size",
            value=cell_size,
            expected=f"one that makes at most {MOST_CELLS}",
        )
    shape = (high - low).astype(int)[::-1]
    corner = transform_points([0.0, 0.0, turn], low[None] * cell_size)[0]
    new = Grid(np.zeros(shape, np.float32), cell_size, (float(corner[0]), float(corner[1])), turn)
    return replace(new, log_odds=_sampled(grid, new), doubt=grid.doubt)


def overlaid(below: Grid, above: Grid) -> Grid:
    """Return a map with another of the same floor laid over it, in the raster of the first and as large as both need.

    Both give evidence: log-odds are added.
    """
    there = transform_points(inverse(below.frame), above.corner_points) / below.cell_size
    low = np.minimum(np.floor(there.min(axis=0)), 0.0).astype(int)
    high = np.maximum(np.ceil(there.max(axis=0)), below.shape[::-1]).astype(int)
    log_odds = np.zeros((high - low)[::-1], np.float32)
    log_odds[-low[1] : below.shape[0] - low[1], -low[0] : below.shape[1] - low[0]] = below.log_odds
    corner = transform_points(below.frame, low[None] * below.cell_size)[0]
    sheet = Grid(log_odds, below.cell_size, (float(corner[0]), float(corner[1])), below.turn)
    most = float(max(np.abs(below.log_odds).max(), np.abs(above.log_odds).max()))
    return replace(sheet, log_odds=np.clip(log_odds + _sampled(above, sheet), -most, most), doubt=below.doubt)


def _sampled(grid: Grid, new: Grid) -> NDArray[np.float32]:
    """Return what a grid holds in the cells of a new one: the most occupied sample if it is occupied, else the mean."""
    highest, total = np.full(new.shape, -np.inf, np.float32), np.zeros(new.shape, np.float32)
    rows, columns = np.mgrid[: new.shape[0], : new.shape[1]].astype(float)
    offsets = (np.arange(SAMPLES) + 0.5) / SAMPLES
    for down in offsets:
        for along in offsets:
            local = np.stack([(columns + along).ravel(), (rows + down).ravel()], axis=-1) * new.cell_size
            values = grid.values_at(transform_points(new.frame, local), grid.log_odds, outside=0.0).reshape(new.shape)
            highest = np.maximum(highest, values)
            total += values
    return np.where(highest > DECIDED, highest, total / SAMPLES**2)


def main_direction(grid: Grid) -> float:
    """Return the heading of the main walls in the site frame, radians, between -45 and 45 degrees.

    The slopes of the smoothed map are added up as vectors of four times their angle, so that walls at right angles
    to each other count as one direction; about it, the angle is taken that projects walls onto the sharpest peaks.
    """
    solid = ndimage.gaussian_filter(grid.occupied.astype(np.float32), SMEAR)
    down, along = np.gradient(solid)
    quadruple = np.sum((along + 1j * down) ** 4 / np.maximum(np.hypot(along, down), 1e-9) ** 2)
    if abs(quadruple) == 0.0:
        raise InputError("shows no wall", key="map", expected="occupied cells to take a direction from")
    points = grid.occupied_points()
    points -= points.mean(axis=0)
    angles = float(np.angle(quadruple)) / 4.0 + grid.turn + np.arange(-PEAK_STEPS, PEAK_STEPS + 1) * PEAK_STEP
    bins = np.arange(-1.0, 1.0 + 1e-9, 1.0 / np.ceil(np.hypot(*points.T).max() / grid.cell_size))
    bins *= np.hypot(*points.T).max() + grid.cell_size

    def sharpness(angle: float) -> float:
        turned = transform_points([0.0, 0.0, -angle], points)
        return float(sum(np.sum(np.histogram(turned[:, axis], bins)[0].astype(float) ** 2) for axis in (0, 1)))

    values = np.array([sharpness(angle) for angle in angles])
    # A small map has no single peak, as its cells are coarse: the middle of the best.
    angle = float(np.mean(angles[values >= 0.99 * values.max()]))
    return float((angle + np.pi / 4.0) % (np.pi / 2.0) - np.pi / 4.0)


def strongest(readings: NDArray[Any], every: int) -> NDArray[Any]:
    """Return the highest reading of each block of `every` x `every` cells: walls are thin, and must not get lost."""
    rows, columns = (-(-side // every) for side in readings.shape)
    padded = np.zeros((rows * every, columns * every), readings.dtype)
    padded[: readings.shape[0], : readings.shape[1]] = readings
    return np.asarray(padded.reshape(rows, every, columns, every).max(axis=(1, 3)))
