"""Make a run from CSV tables that anyone recorded, in whatever units they recorded them."""

from __future__ import annotations

from collections.abc import Mapping
from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import ArrayLike

from vinecompass.errors import InputError
from vinecompass.robot import Robot
from vinecompass.runs.run import Run
from vinecompass.runs.run_files import STREAMS, stream_from_columns
from vinecompass.runs.streams import Imu, Positions, Scans, Track, Wheels
from vinecompass.runs.tables import read_table

__all__ = ["TIME_UNITS", "Units", "import_run"]

TIME_UNITS = {"s": 1.0, "ms": 1e-3, "us": 1e-6, "ns": 1e-9}
LENGTH_UNITS = {"m": 1.0, "cm": 1e-2, "mm": 1e-3}
ANGLE_UNITS = {"rad": 1.0, "deg": np.pi / 180.0}
ACCELERATION_UNITS = {"m/s2": 1.0, "g": 9.80665}
WHEEL_UNITS = ("rad", "deg", "ticks", "m")


@dataclass(frozen=True)
class Units:
    """The units that tables were recorded in.

    Parameters
    ----------
    time : {"s", "ms", "us", "ns"}
    ranges, length : {"m", "cm", "mm"}
        Of the scans, and of x and y in the odometry.
    angle : {"rad", "deg"}
        Of headings, and of turn rates per second.
    wheels : {"rad", "deg", "ticks", "m"}
        Of the wheels' columns: the angle turned so far, encoder ticks so far, or way rolled so far.
    acceleration : {"m/s2", "g"}
    """

    time: str = "s"
    ranges: str = "m"
    length: str = "m"
    angle: str = "rad"
    wheels: str = "rad"
    acceleration: str = "m/s2"

    def __post_init__(self) -> None:
        allowed = {
            "time": TIME_UNITS,
            "ranges": LENGTH_UNITS,
            "length": LENGTH_UNITS,
            "angle": ANGLE_UNITS,
            "wheels": WHEEL_UNITS,
            "acceleration": ACCELERATION_UNITS,
        }
        for key, units in allowed.items():
            if getattr(self, key) not in units:
                raise InputError(
                    "is not a unit known here", key=key, value=getattr(self, key), expected=" or ".join(units)
                )


def import_run(
    tables: Mapping[str, str | Path],
    robot: Robot,
    *,
    units: Units | None = None,
    columns: Mapping[str, str] | None = None,
    no_return: float | None = None,
    start: ArrayLike = (0.0, 0.0, 0.0),
) -> Run:
    """Make a run from tables of readings.

    Parameters
    ----------
    tables : mapping of str to path-like
        File by stream: ``scans`` and ``wheels`` or ``odometry``; ``imu``, ``position`` and ``truth`` as far as
        recorded. Each is CSV with a header (or Parquet), its time in the column ``t``. Scans have one column per
        beam, in the order the beams fire.
    robot : Robot
        The robot that made them; its lidar says how many beams there are.
    units : Units, optional
        The units of the tables; SI if not given.
    columns : mapping of str to str, optional
        The table's name for one of ours, by ``stream.column``: ``{"wheels.left": "encoder_l"}``.
    no_return : float, optional
        The number the scanner writes for "nothing within reach", in the tables' unit.
    start : array_like, (3,)
        Where the robot stood when it began, in the site frame, m and radians.

    Returns
    -------
    Run

    Raises
    ------
    InputError
        A file, column or unit is unknown or holds what it should not, or there are no scans.
    """
    units = units or Units()
    unknown = set(tables) - set(STREAMS)
    if unknown:
        raise InputError("is not a stream", key=min(unknown), expected=", ".join(STREAMS))
    if "scans" not in tables:
        raise InputError("no scans were given", key="scans", expected="a table of scans")
    streams = {}
    for name, path in tables.items():
        table = read_table(path)
        ours = {theirs: key.partition(".")[2] for key, theirs in (columns or {}).items() if key.split(".")[0] == name}
        missing = set(ours) - set(table.column_names)
        if missing:
            raise InputError("is not a column", file=path, key=min(missing), expected=", ".join(table.column_names[:6]))
        table = table.rename_columns([ours.get(column, column) for column in table.column_names])
        stream = stream_from_columns(name, table, Path(path), robot)
        streams[name] = _in_si(replace(stream, t=stream.t * TIME_UNITS[units.time]), robot, units, no_return)
    return Run(robot=robot, start=np.asarray(start, dtype=float), **streams)


def _in_si(stream: Any, robot: Robot, units: Units, no_return: float | None) -> Any:
    angle = ANGLE_UNITS[units.angle]
    if isinstance(stream, Scans):
        ranges = stream.ranges.copy()
        if no_return is not None:
            ranges[ranges == np.float32(no_return)] = np.inf
        ranges *= np.float32(LENGTH_UNITS[units.ranges])
        ranges[ranges <= 0.0] = np.nan
        ranges[ranges > robot.scanner.farthest] = np.inf
        return replace(stream, ranges=ranges)
    if isinstance(stream, Wheels):
        radians = {
            "rad": 1.0,
            "deg": np.pi / 180.0,
            "m": 1.0 / robot.drive.wheel_radius,
            "ticks": 2.0 * np.pi / robot.wheels.ticks_per_turn,
        }[units.wheels]
        steering = None if stream.steering is None else stream.steering * angle
        return replace(stream, angles=stream.angles * radians, steering=steering)
    if isinstance(stream, Track):
        length = LENGTH_UNITS[units.length]
        return replace(stream, poses=stream.poses * np.array([length, length, angle]))
    if isinstance(stream, Imu):
        acceleration = ACCELERATION_UNITS[units.acceleration]
        return replace(
            stream,
            turn_rate=stream.turn_rate * angle,
            acceleration_x=stream.acceleration_x * acceleration,
            acceleration_y=stream.acceleration_y * acceleration,
        )
    if isinstance(stream, Positions):
        length = LENGTH_UNITS[units.length]
        return replace(stream, x=stream.x * length, y=stream.y * length)
    return stream
