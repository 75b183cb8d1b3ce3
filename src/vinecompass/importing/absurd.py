"""What no robot can have recorded: most often the unit is another than was said."""

from __future__ import annotations

from collections.abc import Iterator, Mapping
from pathlib import Path

import numpy as np
from numpy.typing import NDArray

from vinecompass.errors import InputError
from vinecompass.importing.table_format import LENGTH_UNITS, TIME_UNITS, TableFormat
from vinecompass.robot import Lidar, Robot
from vinecompass.runs.run import Run
from vinecompass.runs.stamping import guess_stamps
from vinecompass.runs.streams import Imu, Stream, Track, Wheels

__all__ = ["likeliest_length", "refuse_absurd", "refuse_absurd_ranges"]

FEWEST_RETURNS = 0.02
"""Share of beams below which a scanner is taken to send something else."""
RATE_OFF = 20.0
"""Times that scans may come faster or slower than the scanner sends them."""
TOO_FAST, FAST_SHARE = 4.0, 0.98
"""Times its top speed at which no robot moves, and the share of all steps that must be slower."""


def likeliest_length(ranges: NDArray[np.floating], lidar: Lidar) -> tuple[str, float]:
    """Return the unit of length in which most of some ranges, as told, are readings of a lidar, and what share is."""
    told = ranges[np.isfinite(ranges) & (ranges > 0.0)]
    shares = {
        unit: float(np.mean((told * size >= lidar.nearest) & (told * size <= lidar.farthest))) if len(told) else 0.0
        for unit, size in LENGTH_UNITS.items()
    }
    best = max(shares, key=lambda unit: shares[unit])
    return best, shares[best]


def refuse_absurd_ranges(told: NDArray[np.float32], how: TableFormat, lidar: Lidar, path: Path) -> None:
    """Raise `InputError` if hardly a beam of ranges as told returns, though in another unit most of them would."""
    metres = told * np.float32(LENGTH_UNITS[how.length])
    returns = float(np.mean((metres >= lidar.nearest) & (metres <= lidar.farthest)))
    unit, share = likeliest_length(told, lidar)
    if returns >= FEWEST_RETURNS or unit == how.length or share < 0.5:
        return
    raise InputError(
        f"{100.0 * returns:.0f} % of the beams return",
        file=path,
        key="scans.length",
        value=how.length,
        expected=f"{unit}: then {100.0 * share:.0f} % of the ranges are within the scanner's reach",
    )


def refuse_absurd(run: Run, formats: Mapping[str, TableFormat]) -> None:
    """Raise `InputError` if stamps or motion of a run are such as its robot cannot have."""
    scans = run.need_scans()
    _refuse_rate(scans.t, run.robot.scanner.rate, formats.get("scans", TableFormat()))
    for name, stream in run.streams().items():
        how = formats.get(name, TableFormat())
        t, begin, end = stream.t[np.isfinite(stream.t)], np.nanmin(scans.t), np.nanmax(scans.t)
        if len(t) and (t.min() > end or t.max() < begin):
            raise InputError(
                f"from {t.min():.1f} to {t.max():.1f} s, but the scans from {begin:.1f} to {end:.1f} s",
                key=f"{name}.time",
                value=how.time,
                expected="stamps of one clock, in the unit that is said",
            )
        for key, unit, top, found in _steps(stream, how, run.robot):
            if np.mean(found > TOO_FAST * top) <= 1.0 - FAST_SHARE:
                continue
            if guess_stamps(stream.t)[0] == "bundled":
                raise InputError(
                    "its rows came in bundles, each stamped when it arrived",
                    key=f"{name}.stamps",
                    value=how.stamps,
                    expected="bundled, or stamps taken where the readings are",
                )
            raise InputError(
                f"the robot would reach {np.quantile(found, FAST_SHARE):.3g}, its top is {top:.3g}",
                key=f"{name}.{key}",
                value=unit,
                expected="the unit and the time unit that the table is in, or counter_bits if it is a counter",
            )


def _refuse_rate(t: NDArray[np.float64], rate: float, how: TableFormat) -> None:
    """Raise `InputError` if scans come far faster or slower than the scanner sends them."""
    steps = np.diff(t)
    period = float(np.median(steps[steps > 0.0])) if np.any(steps > 0.0) else 0.0
    if period == 0.0 or how.time == "iso" or 1.0 / RATE_OFF <= period * rate <= RATE_OFF:
        return
    told = period / TIME_UNITS[how.time]
    unit = min(TIME_UNITS, key=lambda name: abs(np.log(told * TIME_UNITS[name] * rate)))
    raise InputError(
        f"a scan every {period:.3g} s, but the scanner sends one in {1.0 / rate:.3g} s",
        key="scans.time",
        value=how.time,
        expected=unit if unit != how.time else "stamps of the scanner in the robot file",
    )


def _steps(stream: Stream, how: TableFormat, robot: Robot) -> Iterator[tuple[str, str, float, NDArray[np.float64]]]:
    """Yield what a stream says of speeds: the key of its unit, the unit, the robot's top, and each speed found."""
    duration = np.diff(stream.t)
    steady = duration > 0.0
    top, turn = robot.drive.top_speed, robot.drive.top_turn_rate
    if isinstance(stream, Wheels):
        rolled = np.abs(np.diff(stream.angles, axis=0)).min(axis=1) * robot.drive.wheel_radius
        yield "wheels", how.wheels, top, _rates(rolled, duration, steady)
    elif isinstance(stream, Track):
        poses = stream.poses
        yield "length", how.length, top, _rates(np.hypot(*np.diff(poses[:, :2], axis=0).T), duration, steady)
        turned = np.abs(np.diff(np.unwrap(np.nan_to_num(poses[:, 2]))))
        yield "angle", how.angle, turn, _rates(turned, duration, steady)
    elif isinstance(stream, Imu):
        yield "angle", how.angle, turn, np.abs(stream.turn_rate)


def _rates(ways: NDArray[np.float64], duration: NDArray[np.float64], steady: NDArray[np.bool_]) -> NDArray[np.float64]:
    rates = ways[steady] / duration[steady]
    return rates[np.isfinite(rates)]
