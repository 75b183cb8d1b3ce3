"""Runs as they were recorded, without the rows that nobody can use."""

from __future__ import annotations

from dataclasses import replace
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vinecompass.runs.order import rows_in_order
from vinecompass.runs.run import Run
from vinecompass.runs.stamping import guess_stamps, mended_stamps
from vinecompass.runs.streams import Scans, readings_of, rows_of

__all__ = ["cleaned", "repeats"]


def cleaned(run: Run, *, keep_repeats: bool = False) -> tuple[Run, tuple[str, ...]]:
    """Return a run with its stamps mended and without the rows that cannot be used, and what was done, in sentences.

    Rows that came in bundles or shuffled, or were stamped by a clock that was set back, are given their own stamps: see
    `mended_stamps`. Left out are rows out of order or with a reading that is not finite, scans that repeat the one
    before, as of a driver that hangs, unless `keep_repeats` is set, and streams of which fewer than two rows remain;
    ranges may be anything.
    """
    streams: dict[str, Any] = {}
    notes = []
    stream: Any
    for name, stream in run.streams().items():
        finite = np.isfinite(stream.t)
        for values in readings_of(stream).values():
            finite &= np.isfinite(values.reshape(len(values), -1)).all(axis=1)
        stamped, why = guess_stamps(stream.t[finite])
        order, t = mended_stamps(stream.t[finite], stamped)
        if stamped != "each":
            notes.append(f"{name}: {why}: its stamps are mended")
        keep = rows_in_order(t)
        lost, disordered = len(finite) - len(t), len(t) - int(np.sum(keep))
        if lost or disordered:
            notes.append(f"{name}: {lost} rows not finite and {disordered} out of order, of {len(finite)}, left out")
        rows, t = np.flatnonzero(finite)[order[keep]], t[keep]
        if isinstance(stream, Scans) and not keep_repeats and np.any(again := repeats(stream.ranges[rows])):
            notes.append(f"{name}: {np.sum(again)} rows repeat the one before to the last digit, left out")
            rows, t = rows[~again], t[~again]
        if len(rows) < 2 and name != "truth":
            notes.append(f"{name}: a single reading says nothing of motion, left out")
            streams[name] = None
        elif len(rows) < len(finite) or stamped != "each":
            streams[name] = replace(rows_of(stream, rows), t=t)
    return replace(run, as_recorded=False, **streams), tuple(notes)


def repeats(ranges: NDArray[np.float32]) -> NDArray[np.bool_]:
    """Return which scans ``(N,)`` of some ranges ``(N, beams)`` repeat the one before to the last digit.

    One in which no beam returns looks like another, and is none.

    >>> repeats(np.array([[1.0, 2.0], [1.0, 2.0], [1.0, 2.1], [np.inf, np.inf], [np.inf, np.inf]])).tolist()
    [False, True, False, False, False]
    """
    alike = [bool(np.array_equal(a, b, equal_nan=True)) for a, b in pairwise(ranges)]
    return np.array([False, *alike], dtype=bool)[: len(ranges)] & np.isfinite(ranges).any(axis=1)
