"""Runs as they were recorded, without the rows that nobody can use."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from vinecompass.runs.order import rows_in_order
from vinecompass.runs.run import Run
from vinecompass.runs.stamping import guess_stamps, mended_stamps
from vinecompass.runs.streams import readings_of, rows_of

__all__ = ["cleaned"]


def cleaned(run: Run) -> tuple[Run, tuple[str, ...]]:
    """Return a run with its stamps mended and without the rows that cannot be used, and what was done, in sentences.

    Rows that came in bundles or shuffled, or were stamped by a clock that was set back, are given their own stamps: see
    `mended_stamps`. Left out are rows out of order or with a reading that is not finite, and streams of which fewer
    than two rows remain; ranges may be anything.
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
        if np.sum(keep) < 2 and name != "truth":
            notes.append(f"{name}: a single reading says nothing of motion, left out")
            streams[name] = None
        elif lost or disordered or stamped != "each":
            streams[name] = replace(rows_of(stream, np.flatnonzero(finite)[order[keep]]), t=t[keep])
    return replace(run, as_recorded=False, **streams), tuple(notes)
