"""Mapping, timed beside the drive itself, and the search of a whole map beside a correlation by Fourier transform."""

from __future__ import annotations

import dataclasses
import time
import tracemalloc
from collections.abc import Iterator
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy.signal import fftconvolve

from benchmarks.measuring import measured
from vinecompass import Mapper, Run, Scan, SweepMotion, build_map, demo_file, read_robot, read_site, record_drive
from vinecompass.geometry import transform_points
from vinecompass.grids import in_frame, likelihood_field
from vinecompass.mapping import Mapping
from vinecompass.matching import PoseSearch
from vinecompass.runs import Imu, Scans, Wheels
from vinecompass.simulation import cast_beams

FloatArray = NDArray[np.float64]
TWENTY_MINUTES = 0.7
"""Metres a second at which the estate's rounds take so long."""


def estate_run(seed: int) -> Run:
    """Twenty minutes round a site of 100 m x 60 m, with nested loops and wet floors, at 10 Hz and 360 beams."""
    site, robot = read_site(demo_file("estate.toml")), read_robot(demo_file("robot.toml"))
    robot = robot.model_copy(update={"lidars": [robot.scanner.model_copy(update={"beams": 360})]})
    route = site.find_route("rounds").points
    text = demo_file("estate.toml").read_text()
    return record_drive(site, robot, route, seed=seed, cruise_speed=TWENTY_MINUTES, site_toml=text)


def first_part(run: Run, seconds: float) -> Run:
    """Return the beginning of a run."""
    assert run.scans is not None and run.wheels is not None and run.imu is not None
    scans, wheels, imu = (stream.t <= seconds for stream in (run.scans, run.wheels, run.imu))
    return dataclasses.replace(
        run,
        scans=Scans(run.scans.t[scans], run.scans.ranges[scans]),
        wheels=Wheels(run.wheels.t[wheels], run.wheels.angles[wheels]),
        imu=Imu(run.imu.t[imu], run.imu.turn_rate[imu], run.imu.acceleration_x[imu], run.imu.acceleration_y[imu]),
    )


def mapping_case(run: Run) -> tuple[dict[str, Any], Mapping]:
    """Time the mapping of a run and of its eighth, quarter and half, with odometry fused and loops closed."""
    assert run.scans is not None
    duration = float(run.scans.t[-1])
    build_map(first_part(run, 20.0))
    grown = []
    for share in (0.125, 0.25, 0.5, 1.0):
        part = first_part(run, share * duration)
        begun = time.perf_counter()
        mapping = build_map(part)
        seconds = time.perf_counter() - begun
        grown.append(f"{share * duration:.0f} s of drive: {seconds:.1f} s, {mapping.mapper.memory / 1e6:.0f} MB")
    return {
        "work": f"mapping {duration / 60.0:.0f} minutes",
        "yardstick": "the drive itself",
        "ours_ms": 1000.0 * seconds,
        "yardstick_ms": 1000.0 * duration,
        "ratio": duration / seconds,
        "note": "; ".join(grown),
    }, mapping


def search_case(mapping: Mapping) -> dict[str, Any]:
    """Search a map of 100 m x 60 m for a scan, all positions and headings."""
    grid = mapping.grid
    level = in_frame(grid, [*grid.corner, grid.turn])
    field = likelihood_field(level.occupied, 2 * grid.cell_size, 0.24)[::2, ::2]
    search = PoseSearch(field, 2 * grid.cell_size)
    hits = mapping.mapper.keyframes[1200].beams.hits.astype(float)
    points, headings = hits[:: max(len(hits) // 120, 1)], np.radians(np.arange(-180.0, 180.0))
    extent = np.array(field.shape[::-1]) * search.cell_size

    def correlated() -> float:
        # One heading in twelve: the whole search takes as many times as long.
        best = 0.0
        for heading in headings[::12]:
            cells = np.floor(transform_points([0.0, 0.0, heading], points) / search.cell_size).astype(int)
            cells -= cells.min(axis=0)
            kernel = np.zeros(cells.max(axis=0)[::-1] + 1)
            np.add.at(kernel, (cells[:, 1], cells[:, 0]), 1.0)
            best = max(best, float(fftconvolve(field, kernel[::-1, ::-1]).max()))
        return best

    def searched() -> float:
        found = search.find(points, headings=headings, low=[0.0, 0.0], high=extent, least=0.3)
        return 0.0 if found is None else found.agreement

    case = measured("loop search, 100 m x 60 m", "SciPy fftconvolve, 1 heading in 12", searched, correlated, "")
    case["note"] = (
        f"{case['ours_ms'] / 1000.0:.3f} s, agreement {searched():.2f}; all headings {12 * case['ratio']:.0f}x"
    )
    return case


def corridor_memory() -> str:
    """Map a plain corridor of two kilometres, and say what the mapper holds in the end."""
    robot = read_robot(demo_file("robot.toml"))
    lidar = robot.scanner.model_copy(update={"beams": 360})
    robot = robot.model_copy(update={"lidars": [lidar]})
    pillars = np.arange(3.0, 2000.0, 7.0)
    walls = [[0.0, 0.0, 2000.0, 0.0], [0.0, 3.0, 2000.0, 3.0]]
    walls += [[x, 0.0, x, 0.3 + 0.2 * (k % 3)] for k, x in enumerate(pillars)]
    rng, mapper = np.random.default_rng(0), Mapper(robot, start=[0.5, 1.5, 0.0])
    still: FloatArray = np.zeros((lidar.beams, 3))
    tracemalloc.start()
    before = tracemalloc.get_traced_memory()[0]
    for k, x in enumerate(np.arange(0.5, 1990.0, 0.26)):
        near = np.array(walls[:2] + [w for w in walls[2:] if abs(w[0] - x) < 17.0])
        pose = np.array([x, 1.5, 0.0])
        ranges = cast_beams(near, np.broadcast_to(pose, (lidar.beams, 3)), lidar)
        ranges = (ranges + rng.normal(scale=0.01, size=lidar.beams)).astype(np.float32)
        mapper.update(Scan(0.1 * k, ranges), SweepMotion(0.1 * k, pose, still))
    mapper.snapshot()
    held, most = tracemalloc.get_traced_memory()
    tracemalloc.stop()
    return (
        f"2 km of corridor: the mapper holds {mapper.memory / 1e6:.0f} MB; "
        f"{(held - before) / 1e6:.0f} MB in all, {(most - before) / 1e6:.0f} MB at most"
    )


def mapping_cases() -> Iterator[dict[str, Any]]:
    """Measure mapping."""
    case, mapping = mapping_case(estate_run(seed=0))
    yield case
    yield search_case(mapping)
    print(corridor_memory())
