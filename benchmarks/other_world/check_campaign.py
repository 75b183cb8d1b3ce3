"""Which faults of a run `check` names, and whether it calls a good run good: runs of the second world, spoilt here."""

from __future__ import annotations

from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from functools import cache
from typing import Any

import numpy as np
from numpy.typing import NDArray

from benchmarks.other_world.record_campaign import place_and_run
from vinecompass import Run, check
from vinecompass.robot import Robot
from vinecompass.runs import Scans, Wheels, rows_of

__all__ = ["RUNS", "SPOILT", "campaign", "recorded"]

FloatArray = NDArray[np.float64]
Spoil = Callable[[Run, np.random.Generator], Run]
RUNS = (3, 4, 8, 9, 13, 14, 18, 19)
"""Numbers of the runs that are spoilt: each kind of robot, in the clinic and in the warehouse."""
SECONDS = 120.0
"""Of each run."""
LATER, LASTS = 30.0, 15.0
"""When a fault begins that does not last all along, and how long it does, s."""


def campaign(count: int, jobs: int | None) -> None:
    """Spoil so many of the runs with each fault, and say what `check` made of it."""
    cases = [(number, name) for name in ("", *SPOILT) for number in RUNS[:count]]
    right = 0
    with ProcessPoolExecutor(jobs) as pool:
        for (number, name), found in zip(cases, pool.map(_found, *zip(*cases, strict=True)), strict=True):
            told = [one for one in found if one[1] != "noise filed wrongly"]
            wanted = SPOILT[name][:2] if name else None
            good = told[:1] == [wanted] if name else not told
            right += good
            if not good:
                print(f"{number:3d} {name or 'clean'}: {told[:3]}", flush=True)
    print(f"{right} of {len(cases)} right")


@cache
def recorded(number: int) -> Run:
    """Return the first part of a run, without its truth."""
    _, run = place_and_run(number)
    begin = float(run.scan_stamps()[0])
    return replace(
        run,
        truth=None,
        as_recorded=True,
        **{key: rows_of(stream, stream.t < begin + SECONDS) for key, stream in run.streams().items() if key != "truth"},
    )


def _found(number: int, name: str) -> list[tuple[str, str]]:
    """Return what is found in a run with a fault, the worst first."""
    run = recorded(number)
    if name:
        run = SPOILT[name][2](run, np.random.default_rng(number))
    return [(finding.stream, finding.fault) for finding in check(run).findings]


def _ranges(run: Run, change: Callable[[NDArray[np.float32]], NDArray[np.floating]], *, all_along: bool = True) -> Run:
    """Return a run with other ranges, all along or for a while."""
    assert run.scans is not None
    t, ranges = run.scans.t, run.scans.ranges.copy()
    rows = slice(None) if all_along else _while(t)
    ranges[rows] = change(ranges[rows])
    return replace(run, scans=Scans(t, ranges))


def _while(t: FloatArray) -> NDArray[np.bool_]:
    return (t > t[0] + LATER) & (t < t[0] + LATER + LASTS)


def _stamps(run: Run, stream: str, change: Callable[[FloatArray], FloatArray]) -> Run:
    readings = run.streams()[stream]
    return replace(run, **{stream: replace(readings, t=change(readings.t.copy()))})


def _wheels(run: Run, change: Callable[[FloatArray], FloatArray]) -> Run:
    assert run.wheels is not None
    return replace(run, wheels=Wheels(run.wheels.t, change(run.wheels.angles.copy())))


def _filed(run: Run, table: str, **values: Any) -> Run:
    """Return a run with a robot file that says otherwise."""
    document = run.robot.model_dump(exclude_none=True, exclude_unset=True)
    for key, value in values.items():
        part = document[table][0] if table == "lidars" else document[table]
        part[key] = value
    return replace(run, robot=Robot.model_validate(document))


def _gap(stream: str) -> Spoil:
    def spoil(run: Run, rng: np.random.Generator) -> Run:
        readings = run.streams()[stream]
        return replace(run, **{stream: rows_of(readings, ~_while(readings.t))})

    return spoil


def _clock(stream: str, seconds: float) -> Spoil:
    return lambda run, rng: _stamps(run, stream, lambda t: t + seconds)


def _swapped_rows(t: FloatArray) -> FloatArray:
    rows = np.flatnonzero(_while(t))[::40]
    t[rows] -= 0.5
    return t


def _twice(t: FloatArray) -> FloatArray:
    rows = np.flatnonzero(_while(t))[::7]
    t[rows] = t[rows - 1]
    return t


def _in_bundles(t: FloatArray) -> FloatArray:
    """Return stamps of rows that arrived eight at a time, a tenth of a millisecond apart."""
    rows = np.arange(len(t))
    return np.asarray(t[np.minimum(rows // 8 * 8 + 7, len(t) - 1)] + 1e-4 * (rows % 8))


def _set_back(run: Run, rng: np.random.Generator) -> Run:
    """Return a run whose computer's clock was set back for good while it was recorded."""
    at = run.scan_stamps()[0] + LATER
    for name in run.streams():
        run = _stamps(run, name, lambda t: np.where(t > at, t - 4.0, t))
    return run


def _standing(share: tuple[float, float]) -> Spoil:
    """Return what lets a share of what each wheel turns be counted from some time on."""

    def stand(angles: FloatArray) -> FloatArray:
        row = len(angles) // 4
        angles[row:] = angles[row] + (angles[row:] - angles[row]) * share
        return angles

    return lambda run, rng: _wheels(run, stand)


def _ended(stream: str) -> Spoil:
    def spoil(run: Run, rng: np.random.Generator) -> Run:
        readings = run.streams()[stream]
        return replace(run, **{stream: rows_of(readings, readings.t < readings.t[0] + LATER)})

    return spoil


def _scattered(run: Run, rng: np.random.Generator) -> Run:
    def scatter(t: FloatArray) -> FloatArray:
        span = _while(t)
        t[span] += rng.uniform(-0.35, 0.35, int(np.sum(span))) * np.median(np.diff(t))
        return t

    return _stamps(run, "scans", scatter)


def _dirt(run: Run, rng: np.random.Generator) -> Run:
    def cover(ranges: NDArray[np.float32]) -> NDArray[np.float32]:
        beams = rng.choice(ranges.shape[1], ranges.shape[1] // 10, replace=False)
        ranges[:, beams] = rng.uniform(0.12, 0.3, (len(ranges), len(beams)))
        return ranges

    return _ranges(run, cover)


def _sector(first: float, width: float, value: float) -> Callable[[NDArray[np.float32]], NDArray[np.float32]]:
    def spoil(ranges: NDArray[np.float32]) -> NDArray[np.float32]:
        begin = round(first * ranges.shape[1])
        ranges[:, begin : begin + round(width * ranges.shape[1])] = value
        return ranges

    return spoil


def _short_of_limit(run: Run, rng: np.random.Generator) -> Run:
    farthest = np.float32(run.robot.scanner.farthest)

    def beyond(ranges: NDArray[np.float32]) -> NDArray[np.float32]:
        return np.where(rng.random(ranges.shape) < 0.3, farthest + np.float32(5.0), ranges)

    return _ranges(run, beyond, all_along=False)


def _imu(change: Callable[[FloatArray], FloatArray]) -> Spoil:
    def spoil(run: Run, rng: np.random.Generator) -> Run:
        assert run.imu is not None
        return replace(run, imu=replace(run.imu, turn_rate=change(run.imu.turn_rate.copy())))

    return spoil


def _held(readings: FloatArray) -> FloatArray:
    readings[2000:] = readings[2000]
    return readings


def _in_g(run: Run, rng: np.random.Generator) -> Run:
    """Return a run whose accelerations are counted in g."""
    assert run.imu is not None
    pushed = {name: getattr(run.imu, name) / 9.81 for name in ("acceleration_x", "acceleration_y")}
    return replace(run, imu=replace(run.imu, **pushed))


def _not_a_number(readings: FloatArray) -> FloatArray:
    readings[1000:2000] = np.nan
    return readings


def _spin(share: FloatArray) -> Spoil:
    """Return what lets wheels turn by a share of what they turn, too far, for a while."""

    def spoil(run: Run, rng: np.random.Generator) -> Run:
        assert run.wheels is not None
        factor = np.where(_while(run.wheels.t)[1:, None], 1.0 + share, 1.0)

        def spin(angles: FloatArray) -> FloatArray:
            return angles[0] + np.vstack([np.zeros((1, 2)), np.cumsum(np.diff(angles, axis=0) * factor, axis=0)])

        return _wheels(run, spin)

    return spoil


def _counted(bits: int) -> Spoil:
    def spoil(run: Run, rng: np.random.Generator) -> Run:
        tick = 2.0 * np.pi / run.robot.wheels.ticks_per_turn
        # Somewhere near its end, so that it begins anew on the way.
        return _wheels(run, lambda angles: np.mod(np.rint(angles / tick) + 2**bits - 300, 2**bits) * tick)

    return spoil


def _turned(degrees: float) -> Spoil:
    def spoil(run: Run, rng: np.random.Generator) -> Run:
        x, y, heading = run.robot.scanner.mount
        return _filed(run, "lidars", mount=(x, y, heading + degrees))

    return spoil


def _elsewhere(run: Run, rng: np.random.Generator) -> Run:
    x, y, heading = run.robot.scanner.mount
    return _filed(run, "lidars", mount=(x + 0.2, y, heading))


def _swept(run: Run, seconds: float) -> Run:
    return _filed(run, "lidars", sweep_time=seconds)


SPOILT: dict[str, tuple[str, str, Spoil]] = {
    "scans missing": ("scans", "gap", _gap("scans")),
    "imu missing": ("imu", "gap", _gap("imu")),
    "wheels missing": ("wheels", "gap", _gap("wheels")),
    "scans unevenly stamped": ("scans", "jitter", _scattered),
    "imu rows out of order": ("imu", "stamps run backwards", lambda r, g: _stamps(r, "imu", _swapped_rows)),
    "wheel stamps twice": ("wheels", "stamps twice", lambda r, g: _stamps(r, "wheels", _twice)),
    "scan stamps in ms": (
        "scans",
        "milliseconds taken for seconds",
        lambda r, g: _stamps(r, "scans", lambda t: 1e3 * t),
    ),
    "scans from another day": ("scans", "another time", _clock("scans", seconds=86400.0)),
    "scans late": ("scans", "clock", _clock("scans", seconds=0.3)),
    "imu early": ("imu", "clock", _clock("imu", seconds=-0.3)),
    "wheels late": ("wheels", "clock", _clock("wheels", seconds=0.3)),
    "no returns for a while": (
        "scans",
        "silent scanner",
        lambda r, g: _ranges(r, lambda one: np.full_like(one, np.nan), all_along=False),
    ),
    "frozen scans": (
        "scans",
        "frozen scans",
        lambda r, g: _ranges(r, lambda one: np.repeat(one[:1], len(one), axis=0), all_along=False),
    ),
    "dead beams": ("scans", "beams that never return", lambda r, g: _ranges(r, _sector(0.3, 0.06, np.nan))),
    "covered sector": ("scans", "blocked sector", lambda r, g: _ranges(r, _sector(0.7, 0.1, 0.15))),
    "beyond its limit": ("scans", "ranges out of limits", _short_of_limit),
    "millimetres": ("scans", "millimetres taken for metres", lambda r, g: _ranges(r, lambda one: 1e3 * one)),
    "dirt": ("scans", "dirt on the window", _dirt),
    "mirrored": ("scans", "mirrored lidar", lambda r, g: _ranges(r, lambda one: one[:, ::-1])),
    "turned by 6 degrees": ("scans", "turned lidar", _turned(6.0)),
    "turned by 90 degrees": ("scans", "turned lidar", _turned(90.0)),
    "0.2 m elsewhere": ("scans", "lidar mounted elsewhere", _elsewhere),
    "swept, but filed as at once": ("scans", "another sweep than filed", lambda r, g: _swept(r, 0.0)),
    "swept the other way": (
        "scans",
        "another sweep than filed",
        lambda r, g: _swept(r, -r.robot.scanner.sweep_seconds),
    ),
    "gyro in degrees": ("imu", "degrees taken for radians", _imu(np.degrees)),
    "accelerations in g": ("imu", "accelerations of another unit or axis", _in_g),
    "gyro not a number": ("imu", "not a number", _imu(_not_a_number)),
    "gyro upside down": ("imu", "turns the other way", _imu(np.negative)),
    "gyro frozen": ("imu", "frozen readings", _imu(_held)),
    "wheels swapped": ("wheels", "left and right swapped", lambda r, g: _wheels(r, lambda one: one[:, ::-1])),
    "wheels backwards": ("wheels", "both wheels backwards", lambda r, g: _wheels(r, np.negative)),
    "left wheel backwards": ("wheels", "the left wheel backwards", lambda r, g: _wheels(r, lambda one: one * (-1, 1))),
    "counter of 16 bits": ("wheels", "counter of 16 bits begins anew", _counted(16)),
    "counter of 12 bits": ("wheels", "counter of 12 bits begins anew", _counted(12)),
    "wheels in bundles": ("wheels", "stamps in bundles", lambda r, g: _stamps(r, "wheels", _in_bundles)),
    "clock set back": ("scans", "stamps run backwards", _set_back),
    "wheels end": ("wheels", "ends early", _ended("wheels")),
    "both encoders dead": ("wheels", "stand while the robot moves", _standing((0.0, 0.0))),
    "left encoder dead": ("wheels", "the left wheel stands", _standing((0.0, 1.0))),
    "wheels spin": ("wheels", "slip", _spin(np.array([0.5, 0.5]))),
    "wheel radius": ("wheels", "wrong wheel_radius", lambda r, g: _filed(r, "drive", wheel_radius=0.1)),
    "track width": ("wheels", "wrong track_width", lambda r, g: _filed(r, "drive", track_width=0.52)),
}
"""What is done to runs, by name: the stream that is spoilt, what `check` should call it first, and how it is done."""
