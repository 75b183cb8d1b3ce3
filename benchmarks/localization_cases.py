"""The particle filter's step beside the same step in vectorised NumPy, and localizing whole runs beside the drive."""

from __future__ import annotations

import time
from collections.abc import Iterator
from functools import partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from benchmarks.localization_runs import demo_map, demo_run, estate_map, estate_part_run
from benchmarks.measuring import measured
from vinecompass import Grid, ParticleLocalizer, Run, localize
from vinecompass.fusion import usual_odometry
from vinecompass.localization.kernels import weigh_particles
from vinecompass.localization.measurement_model import bordered

FloatArray = NDArray[np.float64]


def fancy(field: NDArray[np.float32], particles: FloatArray, points: FloatArray, outside: float) -> FloatArray:
    """Weigh particles as one would in NumPy: all ends at once, looked up by fancy indexing."""
    cosine, sine = np.cos(particles[:, 2:]), np.sin(particles[:, 2:])
    columns = np.floor(particles[:, :1] + cosine * points[:, 0] - sine * points[:, 1]).astype(np.int64)
    rows = np.floor(particles[:, 1:2] + sine * points[:, 0] + cosine * points[:, 1]).astype(np.int64)
    inside = (rows >= 0) & (rows < field.shape[0]) & (columns >= 0) & (columns < field.shape[1])
    values = field[np.clip(rows, 0, field.shape[0] - 1), np.clip(columns, 0, field.shape[1] - 1)]
    return np.asarray(np.where(inside, values, outside).sum(axis=1, dtype=float))


def weighing_cases() -> Iterator[dict[str, Any]]:
    """Weigh a cloud as it is at the start, half a metre and fifteen degrees wide, and see how the time grows."""
    rng = np.random.default_rng(3)
    for particles, beams, rows in (
        (2000, 90, 600),
        (500, 90, 600),
        (8000, 90, 600),
        (2000, 30, 600),
        (2000, 270, 600),
        (2000, 90, 2400),
    ):
        field = rng.normal(size=(rows, rows * 3 // 2)).astype(np.float32)
        cloud = rng.normal([0.75 * rows, 0.5 * rows, 1.0], [10.0, 10.0, 0.26], (particles, 3))
        points: FloatArray = rng.uniform(-250.0, 250.0, (beams, 2))
        with_border = bordered(field, -1.6)
        most = np.abs(weigh_particles(with_border, cloud, points) - fancy(field, cloud, points, -1.6)).mean()
        yield measured(
            f"weighing {particles} x {beams} beams, {rows} rows",
            "NumPy fancy indexing",
            partial(weigh_particles, with_border, cloud, points),
            partial(fancy, field, cloud, points, -1.6),
            f"mean difference {most:.0e}",
        )


def whole_case(name: str, grid: Grid, run: Run) -> dict[str, Any]:
    """Time the localization of a run, its odometry fused beforehand, beside the drive itself."""
    assert run.scans is not None
    odometry = usual_odometry(run)
    localize(grid, run, run.start, odometry=odometry)
    times = []
    for _ in range(3):
        begun = time.perf_counter()
        found = localize(grid, run, run.start, odometry=odometry)
        times.append(time.perf_counter() - begun)
    begun = time.perf_counter()
    ParticleLocalizer(grid, run.robot, run.start, seed=0)
    built = time.perf_counter() - begun
    duration, seconds = float(run.scans.t[-1] - run.scans.t[0]), float(np.median(times))
    return {
        "work": f"localizing a run, {name}",
        "yardstick": "the drive itself",
        "ours_ms": 1000.0 * seconds,
        "yardstick_ms": 1000.0 * duration,
        "ratio": duration / seconds,
        "note": f"{1000.0 * seconds / len(run.scans):.2f} ms a scan, {found.counts.mean():.0f} particles; "
        f"{built:.2f} s of it make the map ready",
    }


def localization_cases() -> Iterator[dict[str, Any]]:
    """Measure every case in turn."""
    yield from weighing_cases()
    yield whole_case("demo site", demo_map(), demo_run(0))
    yield whole_case("estate, 100 m x 60 m", estate_map(), estate_part_run(0))
