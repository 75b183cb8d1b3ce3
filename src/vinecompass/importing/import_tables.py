"""Make a run from tables that anyone recorded, in whatever way and units they wrote them."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import replace
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow
from numpy.typing import ArrayLike, NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import arc, chain
from vinecompass.importing.absurd import refuse_absurd, refuse_absurd_ranges
from vinecompass.importing.beam_rows import scans_of_beams
from vinecompass.importing.counters import unwrapped
from vinecompass.importing.list_rows import scans_of_lists
from vinecompass.importing.table_format import LENGTH_UNITS, TIME_UNITS, TableFormat, read_recorded, tells_speed
from vinecompass.robot import Robot
from vinecompass.runs.run import Run
from vinecompass.runs.run_files import STREAMS, stream_from_columns
from vinecompass.runs.stamping import mended_stamps
from vinecompass.runs.streams import Imu, Positions, Scans, Track, Wheels, rows_of
from vinecompass.runs.tables import column, names_of

__all__ = ["import_run"]

FloatArray = NDArray[np.float64]
ANGLE_UNITS = {"rad": 1.0, "deg": np.pi / 180.0}
ACCELERATION_UNITS = {"m/s2": 1.0, "g": 9.80665}
UNIT_TO = 0.05
"""How far the length of a quaternion may be from 1."""
Files = str | Path | Sequence[str | Path]


@checked
def import_run(
    tables: Mapping[str, Files],
    robot: Robot,
    *,
    formats: Mapping[str, TableFormat] | None = None,
    columns: Mapping[str, str] | None = None,
    start: ArrayLike | None = None,
) -> Run:
    """Make a run from tables of readings.

    Parameters
    ----------
    tables : mapping of str to path-like, or to several
        File or files by stream: ``scans``; ``wheels``, ``odometry``, ``imu``, ``position`` and ``truth`` as far as
        recorded. Each is text with a column for each quantity, packed by gzip or not, or Parquet; several follow
        one another as they are given. Odometry may be poses, ``x, y, heading``, or velocities, ``speed,
        turn_rate`` and perhaps ``sideways``; in place of a heading, a quaternion, ``quaternion_z, quaternion_w`` and
        perhaps ``quaternion_x, quaternion_y``. Scans have a row each, with a column for each beam in the order they
        fire, or all of them as a list in one cell, ``ranges``, of any length where ``angles``, a list as well, or
        ``first_angle`` and ``angle_step`` tell where they point; or a row for each beam: ``t``, ``range``, and
        ``beam`` (0, 1, ...) or ``angle``. Stamps may be in two columns, ``t`` and ``nanoseconds``.
    robot : Robot
        The robot that made them; its lidar says how many beams there are.
    formats : mapping of str to TableFormat, optional
        How the tables of a stream are written, where it is not as our own: see `guess_format`.
    columns : mapping of str to str, optional
        The table's name for one of ours, by ``stream.column``: ``{"wheels.left": "encoder_l"}``.
    start : array_like, (3,), optional
        Where the robot stood when it began, in the site frame, m and radians; by default where the truth has it, if
        that is recorded, and else 0, 0, 0.

    Returns
    -------
    Run
        As recorded: stamps that repeat and readings that are not finite are left to `check` and `fuse`.

    Raises
    ------
    InputError
        A file or column is unknown or holds what it should not, there are no scans, or what comes out is absurd for
        this robot: then the unit that would not be is named.
    """
    unknown = set(tables) - set(STREAMS)
    if unknown:
        raise InputError("is not a stream", key=min(unknown), expected=", ".join(STREAMS))
    if "scans" not in tables:
        raise InputError("no scans were given", key="scans", expected="a table of scans")
    streams = {}
    for name, files in tables.items():
        paths = [Path(files)] if isinstance(files, str | Path) else [Path(file) for file in files]
        how = (formats or {}).get(name, TableFormat())
        ours = {theirs: key.partition(".")[2] for key, theirs in (columns or {}).items() if key.split(".")[0] == name}
        streams[name] = _stream(name, paths, how, ours, robot)
    first = np.zeros(3) if start is None else np.asarray(start, dtype=float)
    run = Run(robot=robot, start=first, as_recorded=True, **streams)
    refuse_absurd(run, formats or {})
    return _begun_on_truth(run) if start is None else run


def _begun_on_truth(run: Run) -> Run:
    """Return a run that starts where its truth, if it has one, has the robot at the first reading."""
    if run.truth is None:
        return run
    known = np.isfinite(run.truth.t) & np.all(np.isfinite(run.truth.poses), axis=1)
    begins = min(stream.t[0] for name, stream in run.streams().items() if name != "truth")
    if not (np.any(known) and np.isfinite(begins)):
        return run
    return replace(run, start=rows_of(run.truth, known).at([begins])[0])


def _stream(name: str, paths: list[Path], how: TableFormat, ours: Mapping[str, str], robot: Robot) -> Any:
    """Return one stream in SI units."""
    table, path = read_recorded(paths, how), paths[0]
    missing = set(ours) - set(table.column_names)
    if missing:
        raise InputError("is not a column", file=path, key=min(missing), expected=names_of(table))
    table = stamped(table.rename_columns([ours.get(key, key) for key in table.column_names]), how, path)
    if how.stamps != "each":
        rows, t = mended_stamps(column(table, "t", path, finite=False), how.stamps)
        table = _with_stamps(table.take(rows), t)
    if name == "scans":
        scans = _scans(table, how, robot, path)
        return replace(scans, ranges=_ranges(scans.ranges, how, robot, path))
    if name == "odometry" and "speed" in table.column_names:
        return _track_of_velocities(table, how, path)
    if "heading" not in table.column_names and {"quaternion_z", "quaternion_w"} <= set(table.column_names):
        table = table.append_column("heading", pyarrow.array(_heading(table, path) / ANGLE_UNITS[how.angle]))
    return _in_si(stream_from_columns(name, table, path, robot, finite=False), robot, how)


def _scans(table: pyarrow.Table, how: TableFormat, robot: Robot, path: Path) -> Scans:
    """Return the scans of a table, their ranges as they were written."""
    lidar, radians = robot.scanner, ANGLE_UNITS[how.angle]
    if how.rows == "beams":
        return scans_of_beams(table, lidar, radians, path)
    if "ranges" in table.column_names:
        return scans_of_lists(table, lidar, radians, path)
    scans: Scans = stream_from_columns("scans", table, path, robot, finite=False)
    return scans


def stamped(table: pyarrow.Table, how: TableFormat, path: Path) -> pyarrow.Table:
    """Return a table with its stamps in seconds."""
    if how.time != "iso":
        seconds = column(table, "t", path, finite=False) * TIME_UNITS[how.time]
        if "nanoseconds" in table.column_names:
            seconds += column(table, "nanoseconds", path, finite=False) * TIME_UNITS["ns"]
            table = table.drop_columns(["nanoseconds"])
    else:
        dates = table.column("t") if "t" in table.column_names else pyarrow.chunked_array([pyarrow.nulls(0)])
        if not pyarrow.types.is_timestamp(dates.type):
            raise InputError(
                "is no column of dates", file=path, key="t", expected="stamps such as 2026-11-29T08:00:00.250"
            )
        seconds = dates.cast(pyarrow.timestamp("ns")).cast(pyarrow.int64()).to_numpy() / 1e9
    return _with_stamps(table, seconds)


def _with_stamps(table: pyarrow.Table, t: FloatArray) -> pyarrow.Table:
    return table.set_column(table.column_names.index("t"), "t", pyarrow.array(t))


def _heading(table: pyarrow.Table, path: Path) -> FloatArray:
    """Return the headings ``(N,)`` of quaternions, radians: how far the x axis is turned, seen from above."""
    x, y, z, w = (
        column(table, f"quaternion_{part}", path, finite=False)
        if f"quaternion_{part}" in table.column_names
        else np.zeros(table.num_rows)
        for part in "xyzw"
    )
    length = np.sqrt(x**2 + y**2 + z**2 + w**2)
    if np.any(wrong := np.abs(length - 1.0) > UNIT_TO):
        raise InputError(
            f"is no rotation in row {int(np.argmax(wrong))}",
            file=path,
            key="quaternion_w",
            value=float(length[wrong][0]),
            expected="a quaternion whose length is 1",
        )
    return np.asarray(np.arctan2(2.0 * (w * z + x * y), w**2 + x**2 - y**2 - z**2))


def _ranges(ranges: NDArray[np.float32], how: TableFormat, robot: Robot, path: Path) -> NDArray[np.float32]:
    """Return ranges in metres, with `inf` for nothing within reach and `nan` for no reading."""
    told = ranges.copy()
    nothing = np.isposinf(told)
    if how.nothing is not None:
        nothing |= told == np.float32(how.nothing)
    told[nothing] = np.nan
    if how.no_reading is not None:
        told[told == np.float32(how.no_reading)] = np.nan
    refuse_absurd_ranges(told, how, robot.scanner, path)
    told *= np.float32(LENGTH_UNITS[how.length])
    told[~(told > 0.0)] = np.nan
    told[nothing | (told > robot.scanner.farthest)] = np.inf
    return told


def _track_of_velocities(table: pyarrow.Table, how: TableFormat, path: Path) -> Track:
    """Return the track along velocities, each held since the reading before."""
    t, length = column(table, "t", path, finite=False), LENGTH_UNITS[how.length]
    speed = column(table, "speed", path, finite=False) * length
    sideways = column(table, "sideways", path, finite=False) * length if "sideways" in table.column_names else 0.0 * t
    turn_rate = column(table, "turn_rate", path, finite=False) * ANGLE_UNITS[how.angle]
    velocities = np.nan_to_num(np.stack([speed, sideways, turn_rate], axis=-1))
    durations = np.maximum(np.nan_to_num(np.diff(t)), 0.0)
    return Track(t, chain(np.zeros(3), arc(velocities[1:], durations)))


def _in_si(stream: Any, robot: Robot, how: TableFormat) -> Any:
    angle, length = ANGLE_UNITS[how.angle], LENGTH_UNITS[how.length]
    if isinstance(stream, Wheels):
        steering = None if stream.steering is None else stream.steering * angle
        return replace(stream, angles=_wheel_angles(stream, robot, how), steering=steering)
    if isinstance(stream, Track):
        return replace(stream, poses=stream.poses * np.array([length, length, angle]))
    if isinstance(stream, Imu):
        acceleration = ACCELERATION_UNITS[how.acceleration]
        return replace(
            stream,
            turn_rate=stream.turn_rate * angle,
            acceleration_x=stream.acceleration_x * acceleration,
            acceleration_y=stream.acceleration_y * acceleration,
        )
    if isinstance(stream, Positions):
        return replace(stream, x=stream.x * length, y=stream.y * length)
    return stream


def radians_of(unit: str, robot: Robot) -> float:
    """Return the radians in a unit of what wheels turn, or turn in a second."""
    return {
        "rad": 1.0,
        "deg": np.pi / 180.0,
        "m": 1.0 / robot.drive.wheel_radius,
        "ticks": 2.0 * np.pi / robot.wheels.ticks_per_turn,
        "rpm": 2.0 * np.pi / 60.0,
    }[unit.removesuffix("/s")]


def _wheel_angles(wheels: Wheels, robot: Robot, how: TableFormat) -> FloatArray:
    """Return the angles ``(N, wheels)`` turned so far, radians."""
    told = wheels.angles
    if how.counter_bits is not None:
        told = unwrapped(told, 2.0**how.counter_bits)
    angles = told * radians_of(how.wheels, robot)
    if not tells_speed(how.wheels):
        return angles
    # Between two readings each wheel turns with the mean of their speeds.
    steps = 0.5 * (angles[1:] + angles[:-1]) * np.diff(wheels.t)[:, None]
    return np.concatenate([np.zeros((1, angles.shape[1])), np.cumsum(np.nan_to_num(steps), axis=0)])
