"""A run: a recorded drive, one stream per sensor, and the robot that made it."""

from __future__ import annotations

from dataclasses import dataclass, replace
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vinecompass.comparing import ByValue
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import checked_pose
from vinecompass.robot import Robot
from vinecompass.runs.streams import (
    Commands,
    Imu,
    Positions,
    Scans,
    Stream,
    Track,
    Wheels,
    check_rows,
    check_wheels,
    readings_of,
)

__all__ = ["Run"]


@checked
@dataclass(frozen=True, eq=False, repr=False)
class Run(ByValue):
    """A recorded drive. Streams that were not recorded are None.

    Parameters
    ----------
    robot : Robot
        The robot that made it.
    start : array, (3,)
        Where the robot stood when the run began, in the site frame, m and radians; the origin if nobody said.
    scans, wheels, odometry, imu, position, truth, commands
        The streams.
    site_toml : str, optional
        The simulated site that the run was recorded in, as the text of its file: the truth for maps.
    folder : Path, optional
        Where the run was read from, to be named in errors.
    as_recorded : bool
        Whether stamps and readings may be anything. `check`, `fuse`, `build_map` and `localize` take such a run;
        everything else leans on stamps that increase and readings that are numbers, as `cleaned` leaves them.

    Raises
    ------
    InputError
        A stream is empty, its stamps do not increase, a reading other than a range is not finite, or the scans
        have not the lidar's number of beams.
    """

    robot: Robot
    start: NDArray[np.float64]
    scans: Scans | None = None
    wheels: Wheels | None = None
    odometry: Track | None = None
    imu: Imu | None = None
    position: Positions | None = None
    truth: Track | None = None
    commands: Commands | None = None
    site_toml: str | None = None
    folder: Path | None = None
    as_recorded: bool = False

    def __repr__(self) -> str:
        """Return it in one line."""
        rows = ", ".join(f"{len(stream.t)} of {name}" for name, stream in self.streams().items())
        return f"<Run of {self.robot.name}: {rows}>"

    def __post_init__(self) -> None:
        checked_pose(self.start, "start")
        for name, stream in self.streams().items():
            if len(stream.t) == 0:
                raise InputError("has no rows", key=name, expected="at least one reading, or no such table")
            check_rows(name, stream)
            if not self.as_recorded:
                _check_order(name, stream.t)
                _check_finite(name, stream)
        if self.wheels is not None:
            check_wheels(self.wheels, self.robot.drive)
        if self.scans is not None:
            beams = self.robot.find_lidar(self.scans.lidar).beams
            if self.scans.ranges.shape[1] != beams:
                raise InputError(
                    "has another number of beams than the robot's lidar",
                    key="scans",
                    value=self.scans.ranges.shape[1],
                    expected=f"{beams} ranges a scan",
                )

    def streams(self) -> dict[str, Stream]:
        """Return the recorded streams by name."""
        names = ("scans", "wheels", "odometry", "imu", "position", "truth", "commands")
        return {name: getattr(self, name) for name in names if getattr(self, name) is not None}

    @property
    def begins(self) -> float:
        """The earliest stamp of all streams, s."""
        return min(float(stream.t[0]) for stream in self.streams().values())

    def shifted(self, seconds: float) -> Run:
        """Return the same run with later stamps."""
        streams: dict[str, Any] = {
            name: replace(stream, t=stream.t + seconds) for name, stream in self.streams().items()
        }
        return replace(self, **streams)

    def need_scans(self) -> Scans:
        """Return the scans, or raise `InputError` if there are none."""
        if self.scans is None:
            raise InputError(
                "the run has none", file=self.folder, key="scans", expected="a table scans.parquet or scans.csv"
            )
        return self.scans

    def scan_streams(self) -> list[Scans]:
        """Return the scans of each lidar, at least one's; raise `InputError` if there are none."""
        return [self.need_scans()]

    def scan_stamps(self) -> NDArray[np.float64]:
        """Return the stamps of all scans, whichever lidar's, in order; raise `InputError` if there are none."""
        return np.sort(np.concatenate([scans.t for scans in self.scan_streams()]))


def _check_order(name: str, t: NDArray[np.float64]) -> None:
    if not np.all(np.isfinite(t)) or np.any(np.diff(t) <= 0.0):
        wrong = int(np.argmin(np.concatenate([[1.0], np.diff(t)]) > 0.0))
        raise InputError(
            f"stamps do not increase at row {wrong}",
            key=f"{name}.t",
            value=float(t[wrong]),
            expected="seconds, each later than the one before: `vinecompass fuse RUN -o FOLDER` mends that",
        )


def _check_finite(name: str, stream: Stream) -> None:
    if isinstance(stream, Scans):
        return
    for column, values in {"t": stream.t, **readings_of(stream)}.items():
        if not np.all(np.isfinite(values)):
            row = int(np.argmin(np.isfinite(values.reshape(len(values), -1)).all(axis=1)))
            raise InputError(
                f"is not finite in row {row}",
                key=f"{name}.{column}",
                expected="numbers: `vinecompass fuse RUN -o FOLDER` leaves such rows out",
            )
