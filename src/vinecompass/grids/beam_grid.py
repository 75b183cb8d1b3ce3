"""A grid that counts beams: in how many scans one passed each cell, and in how many one ended there."""

from __future__ import annotations

from dataclasses import dataclass
from functools import cached_property
from math import floor

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.errors import InputError
from vinecompass.geometry import oriented_points, relative, transform_points
from vinecompass.grids.chance_beams import drop_chance_hits, drop_chance_passes
from vinecompass.grids.grid import Grid
from vinecompass.grids.kernels import FULL_HIT, beam_extent, count_marks, mark_beams

__all__ = ["BeamGrid", "Beams", "SensorModel"]

FloatArray = NDArray[np.float64]
TILE = 64
"""Cells a side of a tile."""
LARGEST_SIDE = 100_000
"""Cells. Beams that would need more than this a side come from a wrong unit or a wrong pose."""


@dataclass(frozen=True)
class Beams:
    """The beams of one scan, straightened.

    Parameters
    ----------
    origins, ends : array, (N, 2), float32
        Where each beam started, and where it ended or how far it is trusted to have passed, in the body frame, m.
    hit : array of bool, (N,)
        Whether it ended on something.
    """

    origins: NDArray[np.float32]
    ends: NDArray[np.float32]
    hit: NDArray[np.bool_]

    @cached_property
    def hits(self) -> NDArray[np.float32]:
        """What the beams hit ``(H, 2)``, in the body frame, m."""
        return self.ends[self.hit]

    @cached_property
    def oriented_hits(self) -> NDArray[np.float64]:
        """The same with the normals of the surfaces hit ``(H, 4)``: see `oriented_points`."""
        return oriented_points(self.hits, self.origins[self.hit])

    def in_cells(self, grid: Grid, pose: FloatArray) -> tuple[FloatArray, FloatArray]:
        """Return where they began and ended ``(N, 2)`` in a grid's own frame, in cells.

        They were sent from a body at a pose ``(3,)`` in the site frame.
        """
        body = relative(pose, grid.frame)
        return transform_points(body, self.origins) / grid.cell_size, transform_points(body, self.ends) / grid.cell_size


@dataclass(frozen=True)
class SensorModel:
    """What a beam that reaches a cell tells of it.

    Parameters
    ----------
    hit_if_occupied : float
        Probability that a beam ends in a cell that it reaches, if the cell is occupied. Well below 1, since
        glass, edges and cells that are occupied in part let beams by.
    hit_if_free : float
        The same if the cell is free: people passing by, and noise.
    bound : float
        Log-odds of a map stay within plus and minus this.
    """

    hit_if_occupied: float
    hit_if_free: float
    bound: float

    @property
    def hit_gain(self) -> float:
        """By how much a sure hit raises the log-odds."""
        return float(np.log(self.hit_if_occupied / self.hit_if_free))

    @property
    def pass_loss(self) -> float:
        """By how much a beam that passes lowers the log-odds."""
        return float(np.log((1.0 - self.hit_if_free) / (1.0 - self.hit_if_occupied)))

    def log_odds(self, hits: NDArray[np.uint16], passes: NDArray[np.uint16]) -> NDArray[np.float32]:
        """Return the log-odds of being occupied of cells that beams ended in and passed so many times.

        A hit counts `FULL_HIT` where it is sure, and the less the farther away it was.

        Notes
        -----
        Bayes' rule for independent beams and an even prior (Thrun, Burgard and Fox, 2005, sections 4.2 and 9.2).
        """
        gain = np.float32(self.hit_gain / FULL_HIT)
        return np.asarray(hits * gain - passes * np.float32(self.pass_loss))


class BeamGrid:
    """Counts of beams in square tiles, made where beams reach: memory follows the floor seen.

    Counts can be taken back, so that a scan whose pose turns out to be another is moved exactly.

    Parameters
    ----------
    cell_size : float
        Metres. Cell ``[0, 0]`` has its lower corner at the origin of the grid's frame.
    clear_margin : float
        How far short of what it hit a beam is counted as passing, m.
    spread : float
        How far a beam's end may be off for each metre that it went, m.

    Examples
    --------
    >>> grid = BeamGrid(0.1, clear_margin=0.1)
    >>> beams = Beams(np.array([[0.05, 0.05]], np.float32), np.array([[1.05, 0.05]], np.float32), np.array([True]))
    >>> for _ in range(2):
    ...     cells = grid.add([0.0, 0.0, 0.0], beams)
    >>> np.sign(grid.snapshot(SensorModel(0.36, 0.03, 6.0)).log_odds).astype(int).tolist()
    [[-1, -1, -1, -1, -1, -1, -1, -1, -1, -1, 1]]
    """

    def __init__(self, cell_size: float, *, clear_margin: float, spread: float = 0.0) -> None:
        self.cell_size = cell_size
        self._margin = clear_margin
        self._spread = spread
        self._slots: NDArray[np.int32] = np.zeros((0, 0), np.int32)
        """Where each tile of the rectangle of tiles lies in the counts, or -1 where there is none."""
        self._first = np.zeros(2, np.int64)
        """Row and column, in tiles, of the rectangle's first tile."""
        self._used = 0
        self._hits = np.zeros((16, TILE, TILE), np.uint16)
        self._passes = np.zeros((16, TILE, TILE), np.uint16)
        self._marks = np.zeros(0, np.uint8)

    @property
    def memory(self) -> int:
        """Bytes held."""
        return int(self._slots.nbytes + self._hits.nbytes + self._passes.nbytes + self._marks.nbytes)

    def add(self, pose: ArrayLike, beams: Beams) -> int:
        """Count the beams of a scan from a pose ``(3,)``, each cell once; return how many cells they walk."""
        return self._count(pose, beams, np.uint16(1))

    def remove(self, pose: ArrayLike, beams: Beams) -> int:
        """Take back what `add` counted with the same pose and beams."""
        return self._count(pose, beams, np.uint16(65535))

    def snapshot(self, model: SensorModel) -> Grid:
        """Return the counts as a `Grid`, cropped to the cells observed so far.

        Raises
        ------
        InputError
            Nothing was observed.
        """
        seen_rows, seen_columns = (np.zeros(side * TILE, dtype=bool) for side in self._slots.shape)
        tiles = [(int(row), int(column)) for row, column in np.argwhere(self._slots >= 0)]
        for row, column in tiles:
            seen = (self._hits[self._slots[row, column]] | self._passes[self._slots[row, column]]) > 0
            seen_rows[row * TILE : (row + 1) * TILE] |= seen.any(axis=1)
            seen_columns[column * TILE : (column + 1) * TILE] |= seen.any(axis=0)
        if not seen_rows.any():
            raise InputError("no beam has returned, so there is no map", expected="scans with ranges inside reach")
        low = np.array([np.argmax(seen_rows), np.argmax(seen_columns)])
        high = np.array([len(side) - np.argmax(side[::-1]) for side in (seen_rows, seen_columns)])
        # Made in its final size: of a long corridor, a second copy would be most of the memory.
        log_odds = np.zeros(high - low, np.float32)
        for row, column in tiles:
            first = np.array([row, column]) * TILE - low
            begin, end = (np.clip(corner, 0, log_odds.shape) for corner in (first, first + TILE))
            part = tuple(slice(*ends) for ends in zip(begin - first, end - first, strict=True))
            slot = self._slots[row, column]
            cells = tuple(slice(*ends) for ends in zip(begin, end, strict=True))
            log_odds[cells] = model.log_odds(self._hits[slot][part], self._passes[slot][part])
        drop_chance_hits(log_odds, model.hit_gain)
        drop_chance_passes(log_odds, model.pass_loss)
        np.clip(log_odds, -np.float32(model.bound), np.float32(model.bound), out=log_odds)
        corner = (self._first * TILE + low)[::-1] * self.cell_size
        return Grid(log_odds, self.cell_size, (float(corner[0]), float(corner[1])))

    def _count(self, pose: ArrayLike, beams: Beams, change: np.uint16) -> int:
        if len(beams.ends) == 0:
            return 0
        place = np.asarray(pose, dtype=float)
        low_x, low_y, high_x, high_y = beam_extent(beams.origins, beams.ends, place)
        tile, spare = TILE * self.cell_size, self.cell_size
        # A cell more to each side, for what rounds to just beyond the last point.
        first = np.array([floor((low_y - spare) / tile), floor((low_x - spare) / tile)])
        last = np.array([floor((high_y + spare) / tile) + 1, floor((high_x + spare) / tile) + 1])
        shape = (last - first) * TILE
        self._reach(first, last)
        if shape.prod() > len(self._marks):
            self._marks = np.zeros(shape.prod(), np.uint8)
        marks = self._marks[: shape.prod()].reshape(shape)
        walked = mark_beams(
            marks,
            beams.origins,
            beams.ends,
            beams.hit,
            place,
            1.0 / self.cell_size,
            float(first[0] * TILE),
            float(first[1] * TILE),
            self._margin,
            self._spread,
        )
        begin, end = first - self._first, last - self._first
        slots = self._slots[begin[0] : end[0], begin[1] : end[1]]
        # Eight cells are looked at as one word.
        words = np.bitwise_or.reduce(marks.view(np.uint64).reshape(len(slots), TILE, -1), axis=1)
        marked = words.reshape(*slots.shape, -1).any(axis=-1)
        self._make_tiles(slots, marked)
        count_marks(marks, np.where(marked, slots, np.int32(-1)), self._hits, self._passes, change)
        return int(walked)

    def _make_tiles(self, slots: NDArray[np.int32], marked: NDArray[np.bool_]) -> None:
        new = np.argwhere(marked & (slots < 0))
        slots[tuple(new.T)] = self._used + np.arange(len(new))
        self._used += len(new)
        if self._used > len(self._hits):
            tiles = self._used + self._used // 4
            # In place: large blocks are moved by the system's page tables, without copying what they hold.
            self._hits.resize((tiles, TILE, TILE), refcheck=False)
            self._passes.resize((tiles, TILE, TILE), refcheck=False)

    def _reach(self, first: NDArray[np.int64], last: NDArray[np.int64]) -> None:
        """Let the rectangle of tiles reach from `first` to `last` (exclusively), rows and columns in tiles."""
        shape = np.array(self._slots.shape)
        if shape[0] == 0:
            self._first = first
        low, high = np.minimum(self._first, first), np.maximum(self._first + shape, last)
        if np.array_equal(high - low, shape):
            return
        if np.max(high - low) * TILE > LARGEST_SIDE:
            metres = self.cell_size * np.array([np.max(high - low) * TILE, LARGEST_SIDE])
            raise InputError(
                f"beams reach {metres[0]:.0f} m across the map",
                expected=f"at most {metres[1]:.0f} m; is a unit or a pose wrong?",
            )
        grown = np.full(high - low, -1, np.int32)
        at = self._first - low
        grown[at[0] : at[0] + shape[0], at[1] : at[1] + shape[1]] = self._slots
        self._slots = grown
        self._first = low
