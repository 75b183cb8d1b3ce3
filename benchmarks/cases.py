"""The pieces of work that are measured, each beside its yardstick."""

from __future__ import annotations

from collections.abc import Iterator
from functools import partial
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage
from skimage.graph import MCP_Geometric

from benchmarks.localization_cases import localization_cases
from benchmarks.mapping_cases import mapping_cases
from benchmarks.measuring import measured
from benchmarks.odometry_cases import odometry_cases
from vinecompass.costs.kernels import line_price
from vinecompass.grids import BeamGrid, Beams, clearance
from vinecompass.planning import find_grid_path
from vinecompass.planning.grid_search import NO_WAYS
from vinecompass.planning.smoothing import shorten

FloatArray = NDArray[np.float64]


def building(side: int, seed: int) -> NDArray[np.bool_]:
    """Return a made-up building as occupied cells: eight by eight rooms, a door in every wall, and furniture."""
    rng = np.random.default_rng(seed)
    occupied = np.zeros((side, side), dtype=bool)
    room, door = side // 8, max(side // 48, 14)
    for wall in range(0, side, room):
        occupied[max(wall - 1, 0) : wall + 2, :] = occupied[:, max(wall - 1, 0) : wall + 2] = True
    occupied[-2:, :] = occupied[:, -2:] = True
    for wall in range(room, side - 5, room):
        for begin in range(0, side - room + 1, room):
            for across in (True, False):
                place = begin + int(rng.integers(room // 5, 4 * room // 5))
                cells = (slice(wall - 1, wall + 2), slice(place - door // 2, place + door // 2))
                occupied[cells if across else cells[::-1]] = False
    for _ in range(60):
        row, column = rng.integers(5, side - side // 20 - 5, 2)
        occupied[row : row + side // 60, column : column + side // 20] = True
    return occupied


def minimum_cost(costs: FloatArray, start: tuple[int, int], goal: tuple[int, int]) -> float:
    """Return scikit-image's minimum cost from start to goal; negative cells are closed."""
    return float(MCP_Geometric(costs).find_costs([start], [goal])[0][goal])


def path_cases() -> Iterator[dict[str, Any]]:
    """A* against scikit-image's minimum-cost path, plain and priced."""
    for side in (1000, 2000):
        distance = clearance(building(side, seed=0), 1.0)
        closed = distance < 6.0
        free = np.argwhere(~closed)
        start, goal = ((int(row), int(column)) for row, column in free[[free.sum(1).argmin(), free.sum(1).argmax()]])
        priced = 1.0 + 5.0 * np.clip((20.0 - distance) / 14.0, 0.0, 1.0) ** 2
        for kind, prices in (("plain", np.ones_like(distance)), ("priced", priced)):
            ours = np.where(closed, np.inf, prices).astype(np.float32)
            theirs = np.where(closed, -1.0, prices).astype(np.float64)
            path = find_grid_path(ours, start, goal)
            cost = minimum_cost(theirs, start, goal)
            corners = shorten(ours, path.cells[:, ::-1].astype(float) + 0.5, NO_WAYS)
            short = sum(line_price(ours, NO_WAYS, *a, *b) for a, b in pairwise(corners))
            yield measured(
                f"A* on a {kind} building, {side} x {side}", "scikit-image MCP_Geometric",
                partial(find_grid_path, ours, start, goal),
                partial(minimum_cost, theirs, start, goal),
                f"cost {100.0 * (path.cost / cost - 1.0):+.4f} %, shortened {100.0 * (short / cost - 1.0):+.2f} %, "
                f"{path.expanded} cells expanded",
            )  # fmt: skip


def clearance_case() -> dict[str, Any]:
    """Clearance against SciPy's exact Euclidean distance transform."""
    occupied = building(2000, seed=1)
    most = np.abs(clearance(occupied, 1.0) - ndimage.distance_transform_edt(~occupied)).max()
    return measured(
        "clearance, 2000 x 2000", "SciPy distance_transform_edt",
        lambda: clearance(occupied, 1.0), lambda: ndimage.distance_transform_edt(~occupied),
        f"largest difference {most:.1e} cells",
    )  # fmt: skip


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
        "ray integration, one scan of 433 beams", "vectorised NumPy",
        lambda: grid.add([0.0, 0.0, 0.0], scan), vectorised, "",
    )  # fmt: skip
    case["note"] = f"{walked / case['ours_ms'] / 1000.0:.0f} million cells a second"
    return case


def all_cases() -> Iterator[dict[str, Any]]:
    """Measure every case in turn."""
    yield integration_case()
    yield from path_cases()
    yield from localization_cases()
    yield clearance_case()
    yield from odometry_cases()
    yield from mapping_cases()
