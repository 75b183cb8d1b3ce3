"""The streams of a run: stamped readings, each a few equally long arrays."""

from __future__ import annotations

from collections.abc import Iterator, Sequence
from dataclasses import dataclass, replace
from typing import Any, TypeVar

import numpy as np
from numpy.typing import ArrayLike, NDArray

from vinecompass.comparing import ByValue
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.geometry import compose, distance_along, interpolate_poses, relative
from vinecompass.robot import Drive

__all__ = [
    "Commands",
    "Imu",
    "Positions",
    "Scan",
    "Scans",
    "Stream",
    "Track",
    "Wheels",
    "check_rows",
    "check_wheels",
    "columns_of",
    "joined",
    "readings_of",
    "rows_of",
]

FloatArray = NDArray[np.float64]


@dataclass(frozen=True, eq=False)
class Scan(ByValue):
    """One sweep of a lidar: stamp of its first beam (s), and `ranges` ``(beams,)``, float32, m.

    `inf` is "nothing within reach", `nan` is "no reading". `lidar` is the name of the lidar, empty for the robot's
    first one; see `Robot.find_lidar`.
    """

    t: float
    ranges: NDArray[np.float32]
    lidar: str = ""


@dataclass(frozen=True, eq=False)
class Scans(ByValue):
    """The ``scans`` stream: stamps `t` ``(N,)``, s, `ranges` ``(N, beams)``, float32, m, and whose: see `Scan`."""

    t: FloatArray
    ranges: NDArray[np.float32]
    lidar: str = ""

    def __len__(self) -> int:
        return len(self.t)

    def __getitem__(self, index: int) -> Scan:
        return Scan(float(self.t[index]), self.ranges[index], self.lidar)

    def __iter__(self) -> Iterator[Scan]:
        return (self[index] for index in range(len(self)))


@dataclass(frozen=True, eq=False)
class Wheels(ByValue):
    """The ``wheels`` stream: stamps `t` ``(N,)``, s, and the `angles` turned so far ``(N, wheels)``, radians.

    The wheels come in the order of `Drive.wheel_names`. A car adds the angle of its steered wheels, `steering`
    ``(N,)``, radians, positive to the left.
    """

    t: FloatArray
    angles: FloatArray
    steering: FloatArray | None = None


@dataclass(frozen=True, eq=False)
class Imu(ByValue):
    """The ``imu`` stream: stamps, s; turn rate, rad/s; accelerations forward and to the left, m/s2. All ``(N,)``."""

    t: FloatArray
    turn_rate: FloatArray
    acceleration_x: FloatArray
    acceleration_y: FloatArray


@dataclass(frozen=True, eq=False)
class Positions(ByValue):
    """The ``position`` stream: stamps, s; where the position sensor was in the site frame, m. All ``(N,)``."""

    t: FloatArray
    x: FloatArray
    y: FloatArray


@dataclass(frozen=True, eq=False)
class Commands(ByValue):
    """The ``commands`` stream: stamps, s; commanded speed, m/s; commanded turn rate, rad/s. All ``(N,)``."""

    t: FloatArray
    speed: FloatArray
    turn_rate: FloatArray


@checked
@dataclass(frozen=True, eq=False, repr=False)
class Track(ByValue):
    """A trajectory, as in the ``odometry`` and ``truth`` streams.

    Parameters
    ----------
    t : array, (N,)
        Seconds, increasing.
    poses : array, (N, 3)
        x, y in metres, heading in radians.
    covariances : array, (N, 3, 3), optional
        Of each pose, in the same units, where whoever made the track knows them.
    summed_steps : array, (N, 3, 3), optional
        Of the steps that led to each pose, from one row to the next and in the body's axes: their covariances, added
        up, m2, m rad and rad2. What it grows by between two stamps is the covariance of the motion between them, which
        those of the poses do not tell. A file does not keep it.
    states : array of str, (N,), optional
        What localization said of each pose, such as ``tracking``.

    Examples
    --------
    >>> track = Track(np.array([0.0, 2.0]), np.array([[0.0, 0.0, 0.0], [1.0, 0.0, 0.0]]))
    >>> track.at([0.5]).tolist(), track.length
    ([[0.25, 0.0, 0.0]], 1.0)
    """

    t: FloatArray
    poses: FloatArray
    covariances: FloatArray | None = None
    states: NDArray[np.str_] | None = None
    summed_steps: FloatArray | None = None

    def __repr__(self) -> str:
        """Return it in one line."""
        if len(self.t) == 0:
            return "<Track of no poses>"
        return f"<Track of {len(self.t)} poses, {self.length:.1f} m in {self.t[-1] - self.t[0]:.1f} s>"

    def __len__(self) -> int:
        return len(self.t)

    @property
    def length(self) -> float:
        """The way travelled, m."""
        return float(distance_along(self.poses)[-1])

    def at(self, times: ArrayLike) -> FloatArray:
        """Return the poses ``(M, 3)`` at `times` ``(M,)``, interpolated, and held constant beyond both ends."""
        return interpolate_poses(times, self.t, self.poses)

    def summed_steps_at(self, times: FloatArray) -> FloatArray | None:
        """Return `summed_steps` ``(M, 3, 3)`` at `times` ``(M,)``, as `at` returns the poses; None if it has none."""
        if self.summed_steps is None:
            return None
        columns = self.summed_steps.reshape(-1, 9).T
        return np.stack([np.interp(times, self.t, column) for column in columns], axis=-1).reshape(-1, 3, 3)

    def moved_to(self, start: ArrayLike) -> Track:
        """Return the same track laid so that it begins at the pose `start` ``(3,)``, without covariances and states."""
        return Track(self.t, compose(start, relative(self.poses, self.poses[0])))


Stream = Scans | Wheels | Track | Imu | Positions | Commands
OneStream = TypeVar("OneStream", Scans, Wheels, Track, Imu, Positions, Commands)


def columns_of(stream: Stream) -> dict[str, NDArray[Any]]:
    """Return the arrays that a stream has, by name, each with a row for each stamp."""
    return {name: values for name, values in vars(stream).items() if isinstance(values, np.ndarray)}


def readings_of(stream: Stream) -> dict[str, NDArray[Any]]:
    """Return the arrays of a stream that hold one finite number, or a few, for each stamp: not the stamps, and no
    ranges, which may be anything, and nothing that is said of the readings."""
    aside = ("t", "ranges", "covariances", "states", "summed_steps")
    return {name: values for name, values in columns_of(stream).items() if name not in aside}


def rows_of(stream: OneStream, rows: Any) -> OneStream:
    """Return a stream with only the rows that an index, a mask ``(N,)`` or a slice picks."""
    return replace(stream, **{name: values[rows] for name, values in columns_of(stream).items()})


def joined(parts: Sequence[OneStream]) -> OneStream:
    """Return parts of a stream, one or more, as one, in their order."""
    columns = [columns_of(part) for part in parts]
    whole: dict[str, Any] = {name: np.concatenate([each[name] for each in columns]) for name in columns[0]}
    return replace(parts[0], **whole)


def check_rows(name: str, stream: Stream) -> None:
    """Raise `InputError` unless each reading of a stream has a row for each stamp."""
    for column, values in readings_of(stream).items():
        if len(values) != len(stream.t):
            raise InputError(
                f"has {len(values)} rows", key=f"{name}.{column}", expected=f"{len(stream.t)}, one for each stamp"
            )


def check_wheels(wheels: Wheels, drive: Drive) -> None:
    """Raise `InputError` unless there is an angle of each wheel of a drive for each stamp."""
    check_rows("wheels", wheels)
    if wheels.angles.ndim != 2 or wheels.angles.shape[1] != len(drive.wheel_names):
        raise InputError(
            "is of another shape",
            key="wheels.angles",
            value=wheels.angles.shape,
            expected=f"a column for each of {', '.join(drive.wheel_names)}",
        )
