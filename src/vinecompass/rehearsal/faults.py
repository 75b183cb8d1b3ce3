"""Faults that recordings suffer from, put into a run one at a time, to practise on and to test with."""

from __future__ import annotations

from collections.abc import Callable
from dataclasses import replace
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.motion import wheel_speeds
from vinecompass.odometry import dead_reckon
from vinecompass.robot import Robot
from vinecompass.runs import Run, Scans, rows_of

__all__ = ["FAULTS", "inject_fault"]

Span = NDArray[np.bool_]
"""Which rows of a stream lie in the span."""


def inject_fault(run: Run, fault: str, begin: float, end: float, *, seed: int = 0) -> Run:
    """Return a run as recorded with one fault between two times.

    Parameters
    ----------
    run : Run
    fault : str
        One of `FAULTS`, which says what each does. Faults of the whole run (a turned lidar, a clock that is off)
        take no notice of the times.
    begin, end : float
        Seconds.
    seed : int

    Raises
    ------
    InputError
        There is no such fault, the span is empty, or the run lacks the stream that the fault spoils.

    Examples
    --------
    >>> "frozen scans" in FAULTS
    True
    """
    if fault not in FAULTS:
        raise InputError("is not a fault known here", key="fault", value=fault, expected=", ".join(FAULTS))
    if not begin < end:
        raise InputError("is an empty span", key="fault", value=f"{begin:g}-{end:g}", expected="begin before end, s")
    stream, spoil = FAULTS[fault]
    rows = getattr(run, stream)
    if rows is None:
        if stream != "odometry" or run.wheels is None:
            raise InputError("the run has none to spoil", key=stream, expected=f"a run with {stream}")
        # A recording with an odometry stream is common; here it is made of the wheels.
        run = replace(run, odometry=dead_reckon(run.wheels, run.robot.drive))
        rows = run.odometry
    span = (rows.t >= begin) & (rows.t <= end)
    return spoil(replace(run, as_recorded=True), span, np.random.default_rng(seed))


def _rows(run: Run, stream: str, keep: NDArray[Any]) -> Run:
    rows = getattr(run, stream)
    return replace(run, **{stream: rows_of(rows, keep)})


def _restamped(run: Run, stream: str, t: NDArray[np.float64]) -> Run:
    return replace(run, **{stream: replace(getattr(run, stream), t=t)})


def _drop(stream: str) -> Callable[..., Run]:
    return lambda run, span, rng: _rows(run, stream, ~span)


def _offset(stream: str, seconds: float) -> Callable[..., Run]:
    return lambda run, span, rng: _restamped(run, stream, getattr(run, stream).t + seconds)


def _jitter(run: Run, span: Span, rng: np.random.Generator) -> Run:
    period = 1.0 / run.robot.scanner.rate
    return _restamped(run, "scans", run.scans.t + span * rng.uniform(-0.4, 0.4, len(span)) * period)  # type: ignore[union-attr]


def _backwards(run: Run, span: Span, rng: np.random.Generator) -> Run:
    assert run.imu is not None
    t = run.imu.t.copy()
    t[span] -= 0.5 + t[span][-1] - t[span][0]
    return _restamped(run, "imu", t)


def _duplicates(run: Run, span: Span, rng: np.random.Generator) -> Run:
    assert run.wheels is not None
    t = run.wheels.t.copy()
    inside = np.flatnonzero(span)
    t[inside[1::2]] = t[inside[1::2] - 1]
    return _restamped(run, "wheels", t)


def _ranges(change: Callable[[NDArray[np.float32], np.random.Generator], NDArray[np.float32]]) -> Callable[..., Run]:
    """Make a fault that changes the ranges of the scans in the span."""

    def spoil(run: Run, span: Span, rng: np.random.Generator) -> Run:
        assert run.scans is not None
        ranges = run.scans.ranges.copy()
        ranges[span] = change(ranges[span], rng)
        return replace(run, scans=Scans(run.scans.t, ranges))

    return spoil


def _whole_scans(change: Callable[[NDArray[np.float32]], NDArray[np.float32]]) -> Callable[..., Run]:
    """Make a fault that changes the ranges of all scans."""

    def spoil(run: Run, span: Span, rng: np.random.Generator) -> Run:
        assert run.scans is not None
        return replace(run, scans=Scans(run.scans.t, np.ascontiguousarray(change(run.scans.ranges.copy()))))

    return spoil


def _part(ranges: NDArray[np.float32], share: float, width: float, value: float) -> NDArray[np.float32]:
    """Give the beams of a part of the sweep one value."""
    first = int(share * ranges.shape[1])
    ranges[:, first : first + max(int(width * ranges.shape[1]), 1)] = value
    return ranges


def _out_of_limits(ranges: NDArray[np.float32], rng: np.random.Generator) -> NDArray[np.float32]:
    wild = rng.random(ranges.shape) < 0.2
    return np.where(wild, np.float32(-1.0), ranges)


def _imu_degrees(run: Run, span: Span, rng: np.random.Generator) -> Run:
    assert run.imu is not None
    return replace(run, imu=replace(run.imu, turn_rate=np.degrees(run.imu.turn_rate)))


def _imu_nan(run: Run, span: Span, rng: np.random.Generator) -> Run:
    assert run.imu is not None
    return replace(run, imu=replace(run.imu, turn_rate=np.where(span, np.nan, run.imu.turn_rate)))


def _odometry(change: Callable[[NDArray[np.float64], Span], NDArray[np.float64]]) -> Callable[..., Run]:
    def spoil(run: Run, span: Span, rng: np.random.Generator) -> Run:
        assert run.odometry is not None
        return replace(run, odometry=replace(run.odometry, poses=change(run.odometry.poses.copy(), span)))

    return spoil


def _jump(poses: NDArray[np.float64], span: Span) -> NDArray[np.float64]:
    poses[np.argmax(span) :, 0] += 1.5
    return poses


def _heading_degrees(poses: NDArray[np.float64], span: Span) -> NDArray[np.float64]:
    poses[:, 2] = np.degrees(poses[:, 2])
    return poses


def _spin(run: Run, span: Span, rng: np.random.Generator, velocity: tuple[float, float, float]) -> Run:
    """Let the wheels turn further than the floor under them: as if the body moved with `velocity` besides."""
    assert run.wheels is not None
    steps = np.diff(run.wheels.t, prepend=run.wheels.t[0]) * span
    extra = np.outer(np.cumsum(steps), wheel_speeds(run.robot.drive, velocity))
    return replace(run, wheels=replace(run.wheels, angles=run.wheels.angles + extra))


def _turned_lidar(run: Run, span: Span, rng: np.random.Generator) -> Run:
    """Let the robot file be wrong about the lidar, as if someone had mounted it a quarter turn to the left."""
    document = run.robot.model_dump(exclude_none=True)
    x, y, heading_deg = document["lidars"][0]["mount"]
    document["lidars"][0]["mount"] = (x, y, heading_deg - 90.0)
    return replace(run, robot=Robot.model_validate(document))


FAULTS: dict[str, tuple[str, Callable[[Run, Span, np.random.Generator], Run]]] = {
    "scan gap": ("scans", _drop("scans")),
    "imu gap": ("imu", _drop("imu")),
    "wheels gap": ("wheels", _drop("wheels")),
    "jittering scans": ("scans", _jitter),
    "stamps backwards": ("imu", _backwards),
    "stamps twice": ("wheels", _duplicates),
    "scan clock late": ("scans", _offset("scans", seconds=0.2)),
    "imu clock early": ("imu", _offset("imu", seconds=-0.3)),
    "wheel clock late": ("wheels", _offset("wheels", seconds=0.25)),
    "silent scanner": ("scans", _ranges(lambda ranges, rng: np.full_like(ranges, np.nan))),
    "dead beams": ("scans", _whole_scans(lambda ranges: _part(ranges, 0.3, 0.04, np.nan))),
    "blocked sector": ("scans", _whole_scans(lambda ranges: _part(ranges, 0.8, 0.08, 0.12))),
    "ranges out of limits": ("scans", _ranges(_out_of_limits)),
    "frozen scans": ("scans", _ranges(lambda ranges, rng: np.repeat(ranges[:1], len(ranges), axis=0))),
    "ranges in millimetres": ("scans", _whole_scans(lambda ranges: ranges * np.float32(1000.0))),
    "turn rate in degrees": ("imu", _imu_degrees),
    "turn rate not a number": ("imu", _imu_nan),
    "heading in degrees": ("odometry", _odometry(_heading_degrees)),
    "odometry in millimetres": ("odometry", _odometry(lambda poses, span: poses * [1000.0, 1000.0, 1.0])),
    "odometry jump": ("odometry", _odometry(_jump)),
    "wheels too fast": ("wheels", lambda run, span, rng: _spin(run, span, rng, (2.5, 0.0, 0.0))),
    "wheels spin": ("wheels", lambda run, span, rng: _spin(run, span, rng, (0.3, 0.0, 0.0))),
    "one wheel spins": ("wheels", lambda run, span, rng: _spin(run, span, rng, (0.15, 0.0, 0.5))),
    "turned lidar": ("scans", _turned_lidar),
    "mirrored lidar": ("scans", _whole_scans(lambda ranges: ranges[:, ::-1])),
}
"""What can go wrong, by name: the stream that is spoilt, and how."""
