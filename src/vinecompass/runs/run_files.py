"""Run folders: ``run.toml``, ``robot.toml`` and one table per stream, Parquet or CSV."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import fields
from pathlib import Path
from typing import Any, Literal

import numpy as np
import pyarrow
import tomlkit
from numpy.typing import NDArray
from pydantic import Field

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.files import Model, Number, atomic_folder, atomic_write, check_replaceable, read_model, read_text
from vinecompass.files.models import FARTHEST
from vinecompass.geometry import COVARIANCE_PARTS, covariances_of
from vinecompass.robot import Robot, read_robot
from vinecompass.runs.run import Run
from vinecompass.runs.streams import Commands, Imu, Positions, Scans, Track, Wheels
from vinecompass.runs.tables import column, read_table, table_bytes

__all__ = [
    "RUN_MARKER",
    "STREAMS",
    "check_run_folder",
    "read_run",
    "read_track",
    "stream_from_columns",
    "write_run",
    "write_track",
]

STREAMS: dict[str, type] = {
    "scans": Scans,
    "wheels": Wheels,
    "odometry": Track,
    "imu": Imu,
    "position": Positions,
    "truth": Track,
    "commands": Commands,
}


POSE = ("x", "y", "heading")
COVARIANCE = (
    "variance_x",
    "variance_y",
    "variance_heading",
    "covariance_x_y",
    "covariance_x_heading",
    "covariance_y_heading",
)
"""A track's columns, those of the covariance in the order of `COVARIANCE_PARTS`."""

RUN_MARKER = "run.toml"
"""The file that shows a folder to be a run."""
RECORDS = ("states", "plans", "interventions", "notices", "encounters", "stops")
"""What a mission notes down beside the streams, each in a file of lines of JSON."""
MOMENTS_FILE = "moments.parquet"
"""What a mission saw and weighed, to be replayed."""
RUN_FILES = (
    RUN_MARKER,
    "robot.toml",
    "site.toml",
    *(name + suffix for name in STREAMS for suffix in (".parquet", ".csv")),
)
"""What a run itself is written to; a mission's records lie beside it."""


class RunHeader(Model):
    """What ``run.toml`` holds."""

    start: tuple[Number, Number, Number] = Field((0.0, 0.0, 0.0), description="[x, y, heading_deg] in the site frame")


@checked
def write_run(
    run: Run,
    folder: str | Path,
    *,
    tables: Literal["parquet", "csv"] = "parquet",
    records: Mapping[str, bytes] | None = None,
) -> Path:
    """Write a run as a folder, in place only when it is whole; an older run of that name is replaced.

    Parameters
    ----------
    run : Run
    folder : path-like
    tables : {"parquet", "csv"}
        How the streams are written.
    records : mapping of str to bytes, optional
        Files to lie beside the streams, by their names: what a mission notes down.

    Raises
    ------
    InputError
        `folder` exists and is not a run, or holds anything else besides; a record's name leads out of it, or is a
        stream's.
    """
    x, y, heading = run.start
    header = {"format": "vinecompass run", "version": 1, "start": [float(x), float(y), float(np.degrees(heading))]}
    robot = {"format": "vinecompass robot", "version": 1, **run.robot.model_dump(exclude_none=True, by_alias=True)}
    for name in records or {}:
        if Path(name).name != name or name in RUN_FILES:
            raise InputError("is no name for a record", key="records", value=name, expected="a file's name of its own")
    ours = _names_of_ours() | (records or {}).keys()
    with atomic_folder(folder, marker=RUN_MARKER, ours=ours) as target:
        (target / RUN_MARKER).write_text(tomlkit.dumps(header), encoding="utf-8")
        (target / "robot.toml").write_text(tomlkit.dumps(robot), encoding="utf-8")
        if run.site_toml is not None:
            (target / "site.toml").write_text(run.site_toml, encoding="utf-8")
        for name, stream in run.streams().items():
            path = target / f"{name}.{tables}"
            path.write_bytes(table_bytes(_stream_columns(stream, tables, run.robot), tables))
        for name, content in (records or {}).items():
            (target / name).write_bytes(content)
    return Path(folder)


def check_run_folder(folder: str | Path) -> None:
    """Raise `InputError` unless a run may be written as this folder: worth knowing before long work for it."""
    check_replaceable(folder, marker=RUN_MARKER, ours=_names_of_ours())


def _names_of_ours() -> set[str]:
    """Return the names of all that a run's folder may hold for the folder to be replaced."""
    return {*RUN_FILES, MOMENTS_FILE, *(f"{name}.jsonl" for name in RECORDS)}


@checked
def read_run(folder: str | Path, *, as_recorded: bool = False) -> Run:
    """Read a run folder.

    Parameters
    ----------
    folder : path-like
    as_recorded : bool
        Whether to take stamps that do not increase and readings that are not finite as they are, for `check` and
        `fuse` to judge.

    Raises
    ------
    InputError
        Naming the file and column: no run there, a link out of it, a table that cannot be read, a missing column, text
        where a number belongs, stamps that do not increase, or scans with another number of beams than the robot's.
    """
    folder = Path(folder)
    if not (folder / RUN_MARKER).is_file():
        raise InputError("is not a run", file=folder, expected="a folder with a run.toml")
    header = read_model(folder / RUN_MARKER, RunHeader, kind="run")
    inside = folder.resolve()
    for path in folder.iterdir():
        if path.resolve().parent != inside:
            raise InputError("is a link out of the run's folder", file=path, expected="a file in it")
    robot = read_robot(folder / "robot.toml")
    site = folder / "site.toml"
    streams = {
        name: stream for name in STREAMS if (stream := _read_stream(folder, name, robot, as_recorded)) is not None
    }
    x, y, heading_deg = header.start
    try:
        return Run(
            robot=robot,
            start=np.array([x, y, np.radians(heading_deg)]),
            site_toml=read_text(site) if site.is_file() else None,
            folder=folder,
            as_recorded=as_recorded,
            **streams,
        )
    except InputError as error:
        raise InputError(
            error.problem, file=folder, key=error.key, value=error.value, expected=error.expected
        ) from None


@checked
def write_track(track: Track, path: str | Path) -> Path:
    """Write a track as CSV, atomically: ``t, x, y, heading``, and covariances and states where it has them."""
    return atomic_write(path, table_bytes(_track_columns(track), "csv"))


@checked
def read_track(path: str | Path) -> Track:
    """Read a track from CSV or Parquet: ``t, x, y, heading`` (s, m, radians), and what else `write_track` writes."""
    path = Path(path)
    track = _track_from_columns(read_table(path), path)
    if np.any(np.diff(track.t) <= 0.0):
        row = int(np.argmax(np.diff(track.t) <= 0.0)) + 1
        raise InputError(f"does not increase in row {row}", file=path, key="t", expected="seconds, each later")
    return track


def _read_stream(folder: Path, name: str, robot: Robot, as_recorded: bool) -> Any:
    for suffix in (".parquet", ".csv"):
        path = folder / (name + suffix)
        if path.is_file():
            return stream_from_columns(name, read_table(path), path, robot, finite=not as_recorded)
    return None


def _track_columns(track: Track) -> dict[str, Any]:
    columns = {"t": track.t, **dict(zip(POSE, track.poses.T, strict=True))}
    if track.covariances is not None:
        parts = zip(COVARIANCE, COVARIANCE_PARTS, strict=True)
        columns |= {key: track.covariances[:, i, j] for key, (i, j) in parts}
    if track.states is not None:
        columns["state"] = track.states
    return columns


def _stream_columns(stream: Any, tables: str, robot: Robot) -> dict[str, Any]:
    if isinstance(stream, Track):
        return _track_columns(stream)
    if isinstance(stream, Wheels):
        steering = {} if stream.steering is None else {"steering": stream.steering}
        return {"t": stream.t, **dict(zip(robot.drive.wheel_names, stream.angles.T, strict=True)), **steering}
    if isinstance(stream, Scans):
        t = stream.t - robot.scanner.stamp_offset
        if tables == "csv":
            return {"t": t, **{f"r{i}": values for i, values in enumerate(stream.ranges.T)}}
        values = pyarrow.array(np.ascontiguousarray(stream.ranges).ravel())
        return {"t": t, "ranges": pyarrow.FixedSizeListArray.from_arrays(values, stream.ranges.shape[1])}
    return {field.name: getattr(stream, field.name) for field in fields(stream)}


def stream_from_columns(name: str, table: pyarrow.Table, path: Path, robot: Robot, *, finite: bool = True) -> Any:
    """Make the stream called `name` from a table that has its columns; `path` is named in errors.

    The stamps of the scans are put right by the lidar's `stamp_offset`; `write_run` undoes that again.
    """
    kind = STREAMS[name]
    t = column(table, "t", path, finite=finite)
    if kind is Scans:
        return Scans(t + robot.scanner.stamp_offset, _ranges(table, path))
    if kind is Track:
        return _track_from_columns(table, path, finite=finite)
    if kind is Wheels:
        angles = [column(table, key, path, finite=finite) for key in robot.drive.wheel_names]
        steered = robot.drive.steered
        return Wheels(t, np.stack(angles, axis=-1), column(table, "steering", path, finite=finite) if steered else None)
    return kind(**{field.name: column(table, field.name, path, finite=finite) for field in fields(kind)})


def _track_from_columns(table: pyarrow.Table, path: Path, *, finite: bool = True) -> Track:
    t, *pose = (column(table, key, path, finite=finite) for key in ("t", *POSE))
    covariances = states = None
    if not set(COVARIANCE).isdisjoint(table.column_names):
        parts = [column(table, key, path, finite=finite) for key in COVARIANCE]
        covariances = covariances_of(np.stack(parts, axis=-1))
    if "state" in table.column_names:
        states = np.array([str(state) for state in table.column("state").to_pylist()])
    return Track(t, np.stack(pose, axis=-1), covariances, states)


def _ranges(table: pyarrow.Table, path: Path) -> NDArray[np.float32]:
    """Return ``(N, beams)`` ranges from a list column `ranges`, or from every column after `t` in their order."""
    if "ranges" not in table.column_names:
        names = [name for name in table.column_names if name != "t"]
        if not names:
            raise InputError("has no ranges", file=path, key="ranges", expected="columns r0, r1, ... after t")
        return _checked_ranges(np.stack([column(table, name, path, finite=False) for name in names], axis=-1), path)
    lists = table.column("ranges").combine_chunks()
    if not pyarrow.types.is_nested(lists.type):
        raise InputError("holds no lists", file=path, key="ranges", expected="a list of ranges in each row, m")
    values = lists.flatten()
    beams_each, rest = divmod(len(values), max(len(lists), 1))
    lengths = lists.value_lengths() if not pyarrow.types.is_fixed_size_list(lists.type) else None
    uneven = lengths is not None and len(set(lengths.to_pylist())) > 1
    if rest or uneven or not beams_each or not pyarrow.types.is_floating(values.type):
        raise InputError("holds uneven lists", file=path, key="ranges", expected="as many numbers in each row, m")
    return _checked_ranges(values.to_numpy(zero_copy_only=False).reshape(-1, beams_each), path)


def _checked_ranges(ranges: NDArray[np.floating[Any]], path: Path) -> NDArray[np.float32]:
    """Return ranges ``(N, beams)`` as they are kept; raise `InputError` if no scanner measures such."""
    check_ranges(ranges, path)
    return np.ascontiguousarray(ranges.astype(np.float32))


def check_ranges(ranges: NDArray[np.floating[Any]], path: Path) -> None:
    """Raise `InputError` for lengths that no scanner measures; `path` is named."""
    beyond = np.isfinite(ranges) & (np.abs(ranges) > FARTHEST)
    if np.any(beyond):
        value = float(ranges[beyond][0])
        raise InputError("is no range", file=path, key="ranges", value=value, expected=f"at most {FARTHEST:g} m")
