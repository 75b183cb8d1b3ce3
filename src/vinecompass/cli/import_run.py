"""vinecompass import run: make a run from tables that anyone recorded."""

from __future__ import annotations

import shlex
import tomllib
from collections.abc import Mapping
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.common import Outcome, find_pose, json_option, picture_option, robot_option, tell
from vinecompass.cli.outputs import FILE, OUT, Writing
from vinecompass.errors import InputError

if TYPE_CHECKING:
    from vinecompass.importing import TableFormat
    from vinecompass.runs import Run

__all__ = ["ImportOptions", "import_run_command", "run_import"]

MOTION = {"wheels", "odometry", "imu"}
"""Streams that tell of motion by themselves."""


@click.command("run", cls=Writing, short_help="Make a run from tables that anyone recorded.")
@robot_option
@click.option(
    "--scans", type=FILE, multiple=True, required=True, help="Table of scans: the time, then one column per beam."
)
@click.option("--wheels", type=FILE, multiple=True, help="Table of wheels: t, left, right, turned so far.")
@click.option(
    "--odometry", type=FILE, multiple=True, help="Table of odometry: t, x, y, heading; or t, speed, turn_rate."
)
@click.option("--imu", type=FILE, multiple=True, help="Table of the IMU: t, turn_rate, acceleration_x, acceleration_y.")
@click.option("--position", type=FILE, multiple=True, help="Table of position fixes in the site frame: t, x, y.")
@click.option("--truth", type=FILE, multiple=True, help="Table of true poses in the site frame: t, x, y, heading.")
@click.option("--guess", is_flag=True, help="Guess how the tables are written where it is not said, and say why.")
@click.option(
    "--how",
    "hows",
    multiple=True,
    metavar="[STREAM.]KEY=VALUE",
    help="How tables are written, such as wheels.time=ms, or of all, time=ms. May be given again. Keys: "
    "delimiter, decimal, comment, header, leave_out, time, length, angle, acceleration, wheels, counter_bits, "
    "nothing, no_reading, rows; see docs/runs-and-odometry.md.",
)
@click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="STREAM.OURS=YOURS",
    help="Your name for a column, such as wheels.left=encoder_l. May be given again.",
)
@click.option(
    "--start",
    help="Where it began in the site, x,y,heading_deg; if not given, where the truth begins, or else 0,0,0.",
)
@click.option("-o", "--out", type=OUT, required=True, help="The run folder to write.")
@picture_option
@json_option
def import_run_command(as_json: bool, **given: Any) -> int:
    """Make a run folder from text or Parquet tables, however they are written, so that map and locate can use it.

    A stream may come in several files, and each packed by gzip. Ranges of 0 or less become "no reading", and ranges
    beyond the lidar's farthest "nothing within reach". What is absurd for the robot is refused, with the likely unit.
    """
    return tell(run_import(ImportOptions(**given)), as_json)


@dataclass(frozen=True)
class ImportOptions:
    """What the command is given, as its help tells."""

    robot: Path
    scans: tuple[Path, ...]
    out: Path
    wheels: tuple[Path, ...] = ()
    odometry: tuple[Path, ...] = ()
    imu: tuple[Path, ...] = ()
    position: tuple[Path, ...] = ()
    truth: tuple[Path, ...] = ()
    guess: bool = False
    hows: tuple[str, ...] = ()
    columns: tuple[str, ...] = ()
    start: str | None = None
    picture: Path | None = None

    def tables(self) -> dict[str, tuple[Path, ...]]:
        """Return the tables given, by their streams."""
        names = ("scans", "wheels", "odometry", "imu", "position", "truth")
        return {name: getattr(self, name) for name in names if getattr(self, name)}


def run_import(given: ImportOptions) -> Outcome:
    """Do what the command does."""
    from vinecompass.files import validated
    from vinecompass.importing import TableFormat, guess_format, import_run
    from vinecompass.robot import read_robot
    from vinecompass.runs import write_run

    robot, tables = read_robot(given.robot), given.tables()
    told, columns = _hows(given), _columns(given)
    formats, reasons = {}, []
    for stream, paths in tables.items():
        formats[stream] = validated(TableFormat, told[stream], f"--how {stream}")
        if given.guess:
            guess = guess_format(stream, paths, robot, given=told[stream])
            formats[stream] = guess.how
            reasons += [f"{stream}: {reason}" for reason in guess.reasons]
            taken = {name for key, name in columns.items() if key.startswith(f"{stream}.")}
            found = {f"{stream}.{key}": name for key, name in guess.columns.items() if name not in taken}
            columns = {**found, **columns}
    start = None if given.start is None else find_pose(given.start, option="--start")
    try:
        run = import_run(tables, robot, formats=formats, columns=columns, start=start)
    except InputError as error:
        if given.guess or given.hows or given.columns:
            raise
        hint = f"{error.expected}, or --guess, to have it found out" if error.expected else "--guess may find out"
        raise InputError(error.problem, file=error.file, key=error.key, value=error.value, expected=hint) from None
    files = {"run": str(write_run(run, given.out))}
    if given.picture is not None:
        from vinecompass.figures import draw_run, save_figure

        files["picture"] = str(save_figure(draw_run(run), given.picture))
    command = _repeating(given, formats, columns) if given.guess else ""
    return _told(run, files, given.out, reasons, command)


def _hows(given: ImportOptions) -> dict[str, dict[str, Any]]:
    """Return what is said of each stream's tables, as keys of `TableFormat`."""
    told: dict[str, dict[str, Any]] = {stream: {} for stream in given.tables()}
    for item in given.hows:
        place, separator, value = item.partition("=")
        stream, dot, key = place.rpartition(".")
        if not separator or (dot and stream not in told):
            raise InputError(
                "does not say how a table given is written", key="--how", value=item, expected="such as wheels.time=ms"
            )
        for name in [stream] if dot else told:
            told[name][key] = value.split(",") if key == "leave_out" else _plain(value)
    return told


def _plain(text: str) -> Any:
    """Return what a value stands for in TOML: a number, true or false; or else the text."""
    try:
        value = tomllib.loads(f"value = {text}")["value"]
    except tomllib.TOMLDecodeError:
        return text
    return value if isinstance(value, bool | int | float) else text


def _columns(given: ImportOptions) -> dict[str, str]:
    """Return the user's names for columns by ours."""
    names = {}
    for item in given.columns:
        ours, separator, yours = item.partition("=")
        stream, dot, _ = ours.partition(".")
        if not (separator and dot and yours and stream in given.tables()):
            raise InputError(
                "does not name a column of a table given",
                key="--column",
                value=item,
                expected="such as wheels.left=encoder_l",
            )
        names[ours] = yours
    return names


def _repeating(given: ImportOptions, formats: Mapping[str, TableFormat], columns: Mapping[str, str]) -> str:
    """Return the command that does the same without guessing."""
    words = ["vinecompass", "import", "run", "--robot", str(given.robot)]
    for stream, paths in given.tables().items():
        for path in paths:
            words += [f"--{stream}", str(path)]
        for key, value in formats[stream].model_dump(exclude_defaults=True).items():
            text = ",".join(value) if isinstance(value, list) else str(value).lower() if value is False else str(value)
            words += ["--how", f"{stream}.{key}={text}"]
    for ours, theirs in columns.items():
        words += ["--column", f"{ours}={theirs}"]
    start = [] if given.start is None else ["--start", given.start]
    return shlex.join([*words, *start, "-o", str(given.out)])


def _told(run: Run, files: dict[str, str], out: Path, reasons: list[str], command: str) -> Outcome:
    """Return what was imported, in a sentence and in numbers."""
    import numpy as np

    table = run.need_scans()
    rows = {name: len(stream.t) for name, stream in run.streams().items()}
    notes = [] if MOTION & rows.keys() else ["no table tells of motion: it will be read from the scans alone"]
    if empty := int(np.sum(np.all(np.isnan(table.ranges), axis=1))):
        notes.append(f"{empty} of {len(table.t)} scans have no reading at all, as where one was cut short")
    duration, returned = float(table.t[-1] - table.t[0]), np.isfinite(table.ranges)
    return Outcome(
        "import run",
        f"{duration:.0f} s: "
        + ", ".join(f"{count} {name}" for name, count in rows.items())
        + f"; {100.0 * np.mean(returned):.0f} % of the beams return, "
        f"median range {np.median(table.ranges[returned]):.2f} m",
        quality={
            "guessed": reasons,
            "duration_s": duration,
            "notes": notes,
            "rows": rows,
            "beams_returned_share": np.mean(returned),
        },
        files=files,
        details=[*notes, *reasons, *(["the same without guessing:", f"  {command}"] if command else [])],
        hint=f"vinecompass check {out}",
    )
