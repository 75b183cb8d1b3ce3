"""Guess how a stranger's tables are written, and say why: by their first rows, and by what their robot can do."""

from __future__ import annotations

from collections.abc import Mapping, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow
from numpy.typing import NDArray

from vinecompass.door import checked
from vinecompass.files import validated
from vinecompass.geometry import distance_along
from vinecompass.importing.absurd import likeliest_length
from vinecompass.importing.guess_layout import guess_columns, guess_text, words_of
from vinecompass.importing.import_tables import radians_of, stamped
from vinecompass.importing.list_cells import lists_of
from vinecompass.importing.table_format import (
    LENGTH_UNITS,
    TIME_UNITS,
    WHEEL_UNITS,
    TableFormat,
    kept_columns,
    numbers_of,
    parse,
    read_recorded,
    tells_speed,
    text_of,
    unpacked,
)
from vinecompass.robot import Robot
from vinecompass.runs.stamping import guess_stamps, mean_step, mended_stamps
from vinecompass.runs.tables import column

__all__ = ["Guess", "guess_format"]

FloatArray = NDArray[np.float64]
FEW_ROWS = 400
"""Rows of scans that are looked at."""
CODE_SHARE = 0.002
"""Share of the ranges from which one value beyond the scanner's reach stands for something."""
USUAL_SPEED = 0.8
"""Share of its top speed that a robot comes up to on a drive."""
STEPS_OF_WAY, FEWEST_STEPS = 200, 10
"""Steps of a way whose courses are compared with its headings, and the fewest that tell."""
SEVERAL = 3
"""Fewest columns of ranges."""


@dataclass(frozen=True)
class Guess:
    """How the tables of a stream seem to be written.

    Parameters
    ----------
    how : TableFormat
    columns : dict of str to str
        The table's name for one of ours, where they differ: ``{"left": "encoder_l"}``.
    reasons : tuple of str
        What was guessed and why, a line each.
    """

    how: TableFormat
    columns: dict[str, str]
    reasons: tuple[str, ...]


@dataclass
class _Table:
    """The first rows of a stream's table, and what is guessed of them.

    Parameters
    ----------
    robot : Robot
    columns : dict of str to array (N,) or None
        By their own names; None where they hold no numbers. Of lists, all their numbers.
    ours : dict of str to str
        Their name for one of ours.
    rest : list of str
        Columns that are none of ours.
    seconds : array (N,), optional
        When the rows were read, s, if they are stamped.
    guessed : dict of str to (value, str)
        What was guessed so far, by the keys of `TableFormat`, and why.
    """

    robot: Robot
    columns: dict[str, FloatArray | None]
    ours: dict[str, str]
    rest: list[str]
    seconds: FloatArray | None = None
    guessed: dict[str, tuple[Any, str]] = field(default_factory=dict)

    def column(self, key: str) -> FloatArray | None:
        """Return the column ``(N,)`` that is one of ours; None if there is none, or it holds no numbers."""
        return self.columns.get(self.ours.get(key, ""))


@checked
def guess_format(stream: str, paths: Sequence[Path], robot: Robot, *, given: Mapping[str, Any] | None = None) -> Guess:
    """Guess how the tables of a stream are written.

    Parameters
    ----------
    stream : str
    paths : sequence of Path
    robot : Robot
        What it can do decides between units.
    given : mapping of str to value, optional
        What is known of the format and need not be guessed: keys of `TableFormat`.

    Raises
    ------
    InputError
        A file is missing or no table at all.
    """
    known = dict(given or {})
    reasons: list[str] = []
    if not all(unpacked(path)[1] for path in paths if path.suffix == ".gz"):
        known = {"cut": True, **known}
        reasons.append("cut = true: a packed file ends early")
    text = b"" if paths[0].suffix == ".parquet" else text_of(paths[0], cut=bool(known.get("cut")))
    if text:
        found, why = guess_text(text)
        reasons += [reason for reason in why if reason.split(" =")[0] not in known]
        known = {**found, **known}
    how = validated(TableFormat, known, stream)
    rows = _first_rows(stream, paths, text, how)
    columns = {name: numbers_of(rows.column(name)) for name in rows.column_names}
    looked_at = rows.column_names if stream == "scans" else []
    lists = {name: numbers for name in looked_at if (numbers := _lists(rows.column(name))) is not None}
    ours, rest = guess_columns(
        stream, rows.column_names, robot, lambda name: _is_stamp(rows.column(name), columns[name]), list(lists)
    )
    reasons += [f"{key} is the column {theirs!r}" for key, theirs in ours.items() if key != theirs]
    table = _Table(robot, {**columns, **lists}, ours, rest)
    if "t" in ours:
        _guess_time(table, rows, stream, how, paths[0])
    {"scans": _guess_scans, "wheels": _guess_wheels, "imu": _guess_imu}.get(stream, _guess_poses)(table)
    for key, (value, reason) in table.guessed.items():
        if key not in known and value != TableFormat.model_fields[key].get_default(call_default_factory=True):
            known[key] = value
            told = ",".join(value) if isinstance(value, list) else value
            reasons.append(f"{key} = {told}: {reason}")
    renamed = {key: name for key, name in ours.items() if key != name}
    return Guess(validated(TableFormat, known, stream), renamed, tuple(reasons))


def _first_rows(stream: str, paths: Sequence[Path], text: bytes, how: TableFormat) -> pyarrow.Table:
    """Return the rows that are looked at: of scans the first of the first file's `text`, of what is small all."""
    if stream != "scans" or not text:
        return read_recorded(paths, how)
    lines = text.splitlines(keepends=True)
    many = 50 * FEW_ROWS if lines and len(lines[-1]) < 200 else FEW_ROWS
    return kept_columns(parse(b"".join(lines[:many]), how, paths[0]), how, paths[0])


def _is_stamp(column: pyarrow.ChunkedArray, numbers: FloatArray | None) -> bool:
    if numbers is None:
        return bool(pyarrow.types.is_timestamp(column.type))
    return len(numbers) > 1 and bool(np.all(numbers[1:] >= numbers[:-1])) and numbers[-1] > numbers[0]


def _lists(column: pyarrow.ChunkedArray) -> FloatArray | None:
    """Return all numbers of a column of lists; None if it holds anything else."""
    lists = lists_of(column)
    numbers = None if lists is None else lists.combine_chunks().flatten()
    if numbers is None or len(numbers) < SEVERAL * len(column):
        return None
    return np.asarray(numbers.to_numpy(zero_copy_only=False))


def _guess_time(table: _Table, rows: pyarrow.Table, stream: str, how: TableFormat, path: Path) -> None:
    """Guess the unit of stamps, and how rows were stamped; put the columns in the order in which they were read."""
    ours = table.ours
    if "nanoseconds" not in ours:
        table.guessed["time"] = _time(rows.column(ours["t"]), table.column("t"), ours["t"], stream, table.robot)
    # What was given goes before what is guessed.
    unit = how.time if "time" in how.model_fields_set else table.guessed.get("time", (how.time, ""))[0]
    renamed = rows.rename_columns({theirs: key for key, theirs in ours.items() if key in ("t", "nanoseconds")})
    t = column(stamped(renamed, how.model_copy(update={"time": unit}), path), "t", path, finite=False)
    stamps = how.stamps
    # Beams of one scan are in rows of their own, and may well have its stamp.
    if "stamps" not in how.model_fields_set and "range" not in ours:
        stamps, reason = guess_stamps(t)
        table.guessed["stamps"] = stamps, reason
    order, table.seconds = mended_stamps(t, stamps)
    for name, values in table.columns.items():
        if values is not None and len(values) == len(order):
            table.columns[name] = values[order]


def _time(
    column: pyarrow.ChunkedArray, numbers: FloatArray | None, name: str, stream: str, robot: Robot
) -> tuple[str, str]:
    """Return the unit of stamps, and why."""
    if pyarrow.types.is_timestamp(column.type):
        return "iso", f"{name!r} holds dates"
    named = [unit for unit in TIME_UNITS if unit in words_of(name)]
    if named:
        return named[0], f"{name!r} says so"
    if numbers is None:
        return "s", ""
    told = mean_step(numbers)
    if not told > 0.0:
        return "s", ""
    rate = {"scans": robot.scanner.rate, "imu": robot.imu.rate}.get(stream, 30.0)
    unit = min(TIME_UNITS, key=lambda one: abs(np.log(told * TIME_UNITS[one] * rate)))
    return unit, f"rows are {told:.4g} apart, and one is expected in {1.0 / rate:.3g} s"


def _unit_in(names: Sequence[str], units: Sequence[str]) -> str | None:
    """Return the unit that the names of columns tell."""
    for unit in sorted(units, key=len, reverse=True):
        if all(set(unit.lower().replace("/", " ").split()) <= words_of(name) for name in names):
            return unit
    return None


def _guess_scans(table: _Table) -> None:
    """Guess how scans are written, and which columns are none of theirs."""
    lidar, ours, rest = table.robot.scanner, table.ours, table.rest
    if "range" in ours:
        table.guessed["rows"] = (
            "beams",
            f"a column is called {ours['range']!r}, and one {ours.get('beam', ours.get('angle'))!r}",
        )
        told, names = table.column("range"), [ours["range"]]
        angles = table.column("angle")
        if angles is not None and np.nanmax(np.abs(angles)) > 2.0 * np.pi + 0.1:
            table.guessed["angle"] = "deg", f"beams are at up to {np.nanmax(np.abs(angles)):.0f}"
    elif "ranges" in ours:
        told, names = table.column("ranges"), [ours["ranges"]]
        _guess_angles_of_lists(table)
    else:
        # The ranges are the columns that are numbered; there are as many as the scanner has beams.
        groups: dict[str, list[str]] = {}
        for name in rest:
            groups.setdefault(name.rstrip("0123456789]) "), []).append(name)
        names = max(groups.values(), key=lambda group: (len(group) == lidar.beams, len(group)), default=[])
        if len(names) < SEVERAL:
            return
        rest = [name for name in rest if name not in names]
        values = [value for value in map(table.columns.get, names) if value is not None]
        told = np.concatenate(values) if values else None
    if rest:
        table.guessed["leave_out"] = rest, "they hold no ranges"
    if told is None or len(told) == 0:
        return
    codes, counts = np.unique(told[np.isfinite(told)], return_counts=True)
    often = codes[counts >= max(CODE_SHARE * len(told), 2.0)]
    unit, share = likeliest_length(told[~np.isin(told, often[often <= 0.0])], lidar)
    named = _unit_in(names, list(LENGTH_UNITS)) if len(names) == 1 else None
    unit = named or unit
    reason = f"{100.0 * share:.0f} % of the ranges are then within the scanner's {lidar.nearest} to {lidar.farthest} m"
    table.guessed["length"] = unit, f"{names[0]!r} says so" if named else reason
    far = often[often * LENGTH_UNITS[unit] > lidar.farthest]
    if len(far):
        table.guessed["nothing"] = (
            float(far[-1]),
            f"{far[-1]:g} stands there again and again, beyond the scanner's reach",
        )
    near = often[often * LENGTH_UNITS[unit] < lidar.nearest]
    if len(near) and near[0] != 0.0:
        table.guessed["no_reading"] = (
            float(near[0]),
            f"{near[0]:g} stands there again and again, short of the scanner's reach",
        )


def _guess_angles_of_lists(table: _Table) -> None:
    """Guess the unit of the angles that lists of ranges point to, if they are told."""
    angles, step = table.column("angles"), table.column("angle_step")
    if angles is not None:
        most, told = float(np.nanmax(np.abs(angles))), "beams are at up to"
    elif step is not None:
        most, told = float(np.nanmedian(np.abs(step))) * (table.robot.scanner.beams - 1), "the beams reach over"
    else:
        return
    if most > 2.0 * np.pi + 0.1:
        table.guessed["angle"] = "deg", f"{told} {most:.0f}"


def _guess_wheels(table: _Table) -> None:
    """Guess the unit of wheels, and whether their counters begin anew."""
    names = [table.ours[name] for name in table.robot.drive.wheel_names if name in table.ours]
    told = [table.columns[name] for name in names]
    if not names or any(values is None for values in told):
        return
    counts = np.stack([values for values in told if values is not None], axis=-1)
    bits = _counter_bits(counts)
    if bits is not None:
        table.guessed["counter_bits"] = bits, f"the counters leap by nearly {2.0**bits:.0f}"
    whole = bool(np.all(counts == np.rint(counts)) and np.ptp(counts) > 50.0)
    words = set().union(*(words_of(name) for name in names))
    named = next((unit for unit in ("rpm", "ticks", "deg", "rad") if unit in words), None)
    if bits is not None or (whole and named in (None, "ticks")):
        table.guessed["wheels"] = "ticks", "they are whole numbers"
        return
    t, steps = table.seconds, np.diff(counts, axis=0)
    speeds = {"speed", "velocity", "rate", "rpm"} & words
    duration = np.diff(t) if t is not None else np.full(len(steps), 0.05)
    steady = duration > 0.0
    if not np.any(steady):
        return
    rates = np.quantile(np.abs(steps[steady] / duration[steady, None]), 0.99)
    levels = np.quantile(np.abs(counts), 0.99)
    top = table.robot.drive.top_speed
    # The robot must have come near its top speed, but not far beyond.
    reached: dict[str, float] = {}
    for unit in WHEEL_UNITS:
        is_speed = tells_speed(unit)
        if not (unit.startswith("ticks") or (speeds and not is_speed) or (named and not unit.startswith(named))):
            reached[unit] = float(
                (levels if is_speed else rates) * radians_of(unit, table.robot) * table.robot.drive.wheel_radius
            )
    if reached:
        # Angles are commoner than speeds.
        unit = min(
            reached, key=lambda one: _off(reached[one], top) + (0.7 if one.endswith("/s") and not speeds else 0.0)
        )
        table.guessed["wheels"] = unit, f"the robot then reaches {reached[unit]:.2g} m/s of its {top:g}"


def _off(speed: float, top: float) -> float:
    """Return how far a speed is from what a robot is driven at, as a logarithm."""
    return abs(float(np.log(max(speed, 1e-9) / (USUAL_SPEED * top))))


def _counter_bits(counts: FloatArray) -> int | None:
    """Return after how many bits counters begin anew, if they leap so."""
    if not np.all(counts == np.rint(counts)):
        return None
    leap = float(np.max(np.abs(np.diff(counts, axis=0)), initial=0.0))
    for bits in (8, 10, 12, 14, 16, 24, 32):
        span = 2.0**bits
        if 0.9 * span < leap < span and np.ptp(counts) < span:
            return bits
    return None


def _guess_imu(table: _Table) -> None:
    """Guess the units of an IMU."""
    _guess_turn_rate(table)
    pushes = [table.ours[key] for key in ("acceleration_x", "acceleration_y") if key in table.ours]
    if pushes and all({"g"} & words_of(name) for name in pushes):
        table.guessed["acceleration"] = "g", f"{pushes[0]!r} says so"


def _guess_turn_rate(table: _Table) -> None:
    """Guess the unit of turn rates, if there are any."""
    turn = table.column("turn_rate")
    if turn is not None and len(turn):
        words, most = words_of(table.ours["turn_rate"]), float(np.nanquantile(np.abs(turn), 0.99))
        if {"deg", "dps"} & words:
            table.guessed["angle"] = "deg", f"{table.ours['turn_rate']!r} says so"
        elif most > 2.0 * table.robot.drive.top_turn_rate:
            table.guessed["angle"] = (
                "deg",
                f"turn rates of {most:.3g} are beyond the robot's {table.robot.drive.top_turn_rate:g} rad/s",
            )


def _goes_along(table: _Table, headings: FloatArray) -> float:
    """Return how well the way goes along headings ``(N,)``, radians: 1 as that of wheels, ahead or backwards, should.

    They may count on beyond a full turn, and be off by a constant. Without a way it is 0.
    """
    x, y = table.column("x"), table.column("y")
    if x is None or y is None:
        return 0.0
    known = np.isfinite(x) & np.isfinite(y) & np.isfinite(headings)
    x, y, headings = x[known], y[known], headings[known]
    way = distance_along(np.column_stack([x, y]))
    at = np.unique(np.searchsorted(way, np.linspace(0.0, way[-1], STEPS_OF_WAY)))
    if len(at) < FEWEST_STEPS:
        return 0.0
    course = np.arctan2(np.diff(y[at]), np.diff(x[at]))
    middle = headings[(at[1:] + at[:-1]) // 2]
    return float(np.abs(np.mean(np.exp(2j * (course - middle)))))


def _guess_poses(table: _Table) -> None:
    """Guess the units of odometry, position fixes or the truth."""
    _guess_turn_rate(table)
    heading = table.column("heading")
    if heading is not None and len(heading):
        most = float(np.nanmax(np.abs(heading)))
        if "deg" in words_of(table.ours["heading"]):
            table.guessed["angle"] = "deg", f"{table.ours['heading']!r} says so"
        elif most > 2.0 * np.pi + 0.2 and _goes_along(table, np.radians(heading)) >= _goes_along(table, heading):
            table.guessed["angle"] = "deg", f"headings come up to {most:.0f}, and the way goes along them as degrees"
    names = [table.ours[key] for key in ("x", "y", "speed") if key in table.ours]
    named = _unit_in(names, ["cm", "mm"]) if names else None
    if named:
        table.guessed["length"] = named, f"{names[0]!r} says so"
        return
    t, x, y = table.seconds, table.column("x"), table.column("y")
    if x is None or y is None or t is None:
        return
    duration = np.diff(t)
    steady = duration > 0.0
    if not np.any(steady):
        return
    speed = float(np.quantile(np.hypot(np.diff(x), np.diff(y))[steady] / duration[steady], 0.95))
    top = table.robot.drive.top_speed
    unit = min(LENGTH_UNITS, key=lambda one: _off(speed * LENGTH_UNITS[one], top))
    table.guessed["length"] = unit, f"the robot then goes {speed * LENGTH_UNITS[unit]:.2g} m/s of its {top:g}"
