"""How a piece of work is timed beside its yardstick."""

from __future__ import annotations

import time
from collections.abc import Callable
from typing import Any

import numpy as np

ROUNDS = 5


def measured(
    work: str,
    yardstick: str,
    ours: Callable[[], Any],
    theirs: Callable[[], Any],
    note: str,
    rounds: int = ROUNDS,
) -> dict[str, Any]:
    """Time both in turn, after a warm-up of ours, and compare the medians: load on the machine meets both alike."""
    ours()
    times = np.zeros((rounds, 2))
    for row in times:
        for column, call in enumerate((ours, theirs)):
            begun = time.perf_counter()
            call()
            row[column] = 1000.0 * (time.perf_counter() - begun)
    mine, other = np.median(times, axis=0)
    return {
        "work": work,
        "yardstick": yardstick,
        "ours_ms": float(mine),
        "yardstick_ms": float(other),
        "ratio": float(np.median(times[:, 1] / times[:, 0])),
        "note": note,
    }
