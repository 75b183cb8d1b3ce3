"""The pieces of work that are measured, each beside its yardstick."""

from __future__ import annotations

from collections.abc import Iterator
from typing import Any

import numpy as np

from benchmarks.drive_cases import drive_cases
from benchmarks.localization_cases import localization_cases
from benchmarks.mapping_cases import mapping_cases
from benchmarks.measuring import measured
from benchmarks.odometry_cases import odometry_cases
from benchmarks.planning_cases import planning_cases
from vinecompass.grids import BeamGrid, Beams


def integration_case() -> dict[str, Any]:
    """Ray integration against the same update in vectorised NumPy."""
    rng, shape, beams = np.random.default_rng(2), (800, 800), 433
    angles = np.linspace(-2.3, 2.3, beams)
    origins = np.full((beams, 2), 400.3)
    ends = origins + rng.uniform(60.0, 320.0, (beams, 1)) * np.stack([np.cos(angles), np.sin(angles)], axis=-1)
    grid = BeamGrid(1.0, clear_margin=0.0)
    scan = Beams(origins.astype(np.float32), ends.astype(np.float32), np.ones(beams, dtype=bool))
    walked = grid.add([0.0, 0.0, 0.0], scan)
    other = np.zeros(shape, np.float32)

    def vectorised() -> None:
        # Every ray sampled twice a cell, its cells made unique, hits first: what one would write without loops.
        samples = np.linspace(0.0, 1.0, 2 * 320, endpoint=False)[:, None, None]
        cells = np.floor(origins + samples * (ends - origins)).astype(np.int64).reshape(-1, 2)
        hits = np.unique(np.floor(ends).astype(np.int64), axis=0)
        passed = np.zeros(shape, dtype=bool)
        passed[cells[:, 1], cells[:, 0]] = True
        passed[hits[:, 1], hits[:, 0]] = False
        np.subtract(other, 0.45, out=other, where=passed)
        other[hits[:, 1], hits[:, 0]] += 0.9
        np.clip(other, -6.0, 6.0, out=other)

    case = measured(
        "ray integration, one scan of 433 beams",
        "vectorised NumPy",
        lambda: grid.add([0.0, 0.0, 0.0], scan),
        vectorised,
        "",
    )
    case["note"] = f"{walked / case['ours_ms'] / 1000.0:.0f} million cells a second"
    return case


def all_cases() -> Iterator[dict[str, Any]]:
    """Measure every case in turn."""
    yield integration_case()
    yield from localization_cases()
    yield from planning_cases()
    yield from odometry_cases()
    yield from mapping_cases()
    yield from drive_cases()
