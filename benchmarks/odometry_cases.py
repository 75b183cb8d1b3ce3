"""Fusion, laser odometry and the loading of runs, each beside its yardstick."""

from __future__ import annotations

import dataclasses
import tempfile
from collections.abc import Iterator
from itertools import pairwise
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow.csv
import pyarrow.parquet
from numpy.typing import NDArray
from scipy.spatial import KDTree

from benchmarks.measuring import measured
from benchmarks.reference_filter import ReferenceFilter
from vinecompass import LaserOdometry, OdometryFusion, Robot, demo_file, read_robot, read_run, read_site, record_drive
from vinecompass.geometry import transform_points
from vinecompass.runs import Run, write_run
from vinecompass.runs.streams import columns_of

FloatArray = NDArray[np.float64]
ROUTE = [(36.9, 24.6), (36.9, 18.5), (29.0, 18.5), (28.2, 22.5), (24.5, 23.6)]


def scanner_of(beams: int) -> Robot:
    """Return the demo robot with another number of beams."""
    document = read_robot(demo_file("robot.toml")).model_dump(exclude_none=True)
    document["lidars"][0]["beams"] = beams
    return Robot.model_validate(document)


def fusion_case(run: Run) -> dict[str, Any]:
    """Streaming fusion, a call for each reading, against the same filter in NumPy matrices."""
    assert run.imu is not None and run.wheels is not None
    count = 2000
    inertial = list(zip(*(column[:count].tolist() for column in vars(run.imu).values()), strict=True))
    wheels = list(zip(run.wheels.t[: count // 2].tolist(), run.wheels.angles[: count // 2], strict=True))
    order = sorted(
        [(row[0], 0, row) for row in inertial] + [(row[0], 1, row) for row in wheels], key=lambda item: item[:2]
    )

    def feed(fusion: Any) -> Any:
        for _, stream, row in order:
            if stream == 0:
                fusion.update_imu(*row)
            else:
                fusion.update_wheels(*row)
        return fusion

    ours = feed(OdometryFusion(run.robot, start=run.start))
    other = feed(ReferenceFilter(run.robot, run.start))
    case = measured(
        f"fusion, {len(order)} readings one by one",
        "the same filter in NumPy",
        lambda: feed(OdometryFusion(run.robot, start=run.start)),
        lambda: feed(ReferenceFilter(run.robot, run.start)),
        "",
    )
    apart = float(np.hypot(*(ours.pose[:2] - other.x[:2])))
    case["note"] = f"{len(order) / case['ours_ms'] * 1000.0:.0f} readings a second; {apart:.0e} m apart"
    return case


def kd_tree_alignment(reference: FloatArray, points: FloatArray, rounds: int = 6) -> FloatArray:
    """Align points to lines as one would with SciPy: nearest neighbours from a KD-tree, a normal from two of them."""
    tree: Any = KDTree(reference)
    pose = np.zeros(3)
    for _ in range(rounds):
        moved = transform_points(pose, points)
        distance, nearest = tree.query(moved, k=2)
        along = reference[nearest[:, 1]] - reference[nearest[:, 0]]
        normal = np.stack([-along[:, 1], along[:, 0]], axis=-1) / np.hypot(*along.T)[:, None]
        off = np.sum(normal * (moved - reference[nearest[:, 0]]), axis=1)
        weight = (distance[:, 0] < 0.3) / (1.0 + (off / 0.04) ** 2)
        arm = moved - pose[:2]
        rows = np.column_stack([normal, normal[:, 1] * arm[:, 0] - normal[:, 0] * arm[:, 1]])
        pose = pose - np.linalg.solve(rows.T @ (weight[:, None] * rows), rows.T @ (weight * off))
    return pose


def laser_case(run: Run) -> dict[str, Any]:
    """Laser odometry with its own deskewing and lines, against a bare alignment with SciPy's KD-tree."""
    scans, lidar = run.need_scans(), run.robot.scanner
    chosen = list(scans)[40:240]
    hits = []
    for scan in chosen:
        good = np.isfinite(scan.ranges)
        angles = lidar.beam_angles[good]
        hits.append(scan.ranges[good, None] * np.stack([np.cos(angles), np.sin(angles)], axis=-1))

    def ours() -> None:
        laser = LaserOdometry(lidar)
        for scan in chosen:
            laser.update(scan)

    def theirs() -> None:
        for before, after in pairwise(hits):
            kd_tree_alignment(before, after)

    case = measured(f"200 scans of {lidar.beams} beams, laser odometry", "SciPy KD-tree alignment", ours, theirs, "")
    case["note"] = f"{200.0 / case['ours_ms'] * 1000.0:.0f} scans a second"
    return case


def loading_cases(run: Run) -> Iterator[dict[str, Any]]:
    """Loading twenty minutes of every stream, against PyArrow reading the same tables without any check."""
    long = twenty_minutes(run)
    with tempfile.TemporaryDirectory() as folder:
        for tables, read in (("parquet", pyarrow.parquet.read_table), ("csv", pyarrow.csv.read_csv)):
            path = Path(folder) / tables
            write_run(long, path, tables=tables)  # type: ignore[arg-type]
            files = sorted(path.glob(f"*.{tables}"))

            def theirs(files: list[Path] = files, read: Any = read) -> None:
                for file in files:
                    read(file)

            def ours(path: Path = path) -> None:
                read_run(path)

            case = measured(f"loading 20 minutes from {tables}", "PyArrow, without a check", ours, theirs, "")
            case["note"] = (
                f"{case['ours_ms'] / 1000.0:.2f} s; {sum(file.stat().st_size for file in files) / 2**20:.0f} MB"
            )
            yield case


def twenty_minutes(run: Run) -> Run:
    """Return a run whose streams repeat until they are twenty minutes long."""
    assert run.imu is not None and run.wheels is not None and run.truth is not None
    period = round(run.need_scans().t[-1] + 0.1, 1)
    times = int(np.ceil(1200.0 / period))

    def longer(stream: Any) -> Any:
        columns = columns_of(stream)
        result = {key: np.concatenate([value] * times) for key, value in columns.items()}
        result["t"] = np.concatenate([columns["t"] + i * period for i in range(times)])
        keep = np.concatenate([[True], np.diff(result["t"]) > 1e-9])
        return type(stream)(**{key: value[keep] for key, value in result.items()})

    long = {name: longer(getattr(run, name)) for name in ("scans", "wheels", "imu", "truth")}
    # Fresh noise, so that repetition does not make the file smaller than a real one.
    ranges = long["scans"].ranges
    ranges += np.random.default_rng(1).normal(0.0, 0.003, ranges.shape).astype(np.float32)
    return dataclasses.replace(run, commands=None, **long)


def odometry_cases() -> Iterator[dict[str, Any]]:
    """Measure every case in turn."""
    site = read_site(demo_file("site.toml"))
    yield fusion_case(record_drive(site, scanner_of(3), ROUTE, seed=1))
    run = record_drive(site, scanner_of(360), ROUTE, seed=1)
    yield laser_case(run)
    yield from loading_cases(run)
