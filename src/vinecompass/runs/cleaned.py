"""Runs as they were recorded, without the rows that nobody can use."""

from __future__ import annotations

from dataclasses import replace
from typing import Any

import numpy as np

from vinecompass.runs.order import rows_in_order
from vinecompass.runs.run import Run
from vinecompass.runs.streams import readings_of, rows_of

__all__ = ["cleaned"]


def cleaned(run: Run) -> tuple[Run, tuple[str, ...]]:
    """Return a run without the rows that cannot be used, and a sentence about each stream that lost any.

    Left out are rows out of order or with a reading that is not finite, and streams of which fewer than two
    rows remain; ranges may be anything.
    """
    streams: dict[str, Any] = {}
    notes = []
    stream: Any
    for name, stream in run.streams().items():
        keep = np.isfinite(stream.t)
        for values in readings_of(stream).values():
            keep &= np.isfinite(values.reshape(len(values), -1)).all(axis=1)
        not_finite = int(np.sum(~keep))
        keep[keep] = rows_in_order(stream.t[keep])
        disordered = len(keep) - int(np.sum(keep)) - not_finite
        if not_finite or disordered:
            notes.append(
                f"{name}: {not_finite} rows not finite and {disordered} out of order, of {len(keep)}, left out"
            )
        if np.sum(keep) < 2 and name != "truth":
            notes.append(f"{name}: a single reading says nothing of motion, left out")
            streams[name] = None
        elif not np.all(keep):
            streams[name] = rows_of(stream, keep)
    return replace(run, as_recorded=False, **streams), tuple(notes)
