"""vinecompass import: make a run from tables that anyone recorded."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.common import FILE, Outcome, find_pose, json_option, picture_option, robot_option, tell
from vinecompass.errors import InputError

if TYPE_CHECKING:
    from vinecompass.runs import Run

__all__ = ["ImportOptions", "import_command", "run_import"]


@click.command("import", short_help="Make a run from your own CSV tables.")
@robot_option
@click.option("--scans", type=FILE, required=True, help="Table of scans: the time, then one column per beam.")
@click.option("--wheels", type=FILE, help="Table of wheels: t, left, right, turned so far.")
@click.option("--odometry", type=FILE, help="Table of odometry: t, x, y, heading.")
@click.option("--imu", type=FILE, help="Table of the IMU: t, turn_rate, acceleration_x, acceleration_y.")
@click.option("--position", type=FILE, help="Table of position fixes in the site frame: t, x, y.")
@click.option("--truth", type=FILE, help="Table of true poses in the site frame: t, x, y, heading.")
@click.option("--time-unit", default="s", show_default=True, help="Of every t: s, ms, us or ns.")
@click.option("--range-unit", default="m", show_default=True, help="Of the scans: m, cm or mm.")
@click.option("--length-unit", default="m", show_default=True, help="Of x and y: m, cm or mm.")
@click.option("--angle-unit", default="rad", show_default=True, help="Of headings and turn rates: rad or deg.")
@click.option("--wheel-unit", default="rad", show_default=True, help="Of left and right: rad, deg, ticks or m.")
@click.option("--acceleration-unit", default="m/s2", show_default=True, help="m/s2 or g.")
@click.option(
    "--column",
    "columns",
    multiple=True,
    metavar="STREAM.OURS=YOURS",
    help="Your name for a column, such as wheels.left=encoder_l. May be given again.",
)
@click.option("--no-return", type=float, help="What your scanner writes for nothing within reach, in its own unit.")
@click.option("--start", default="0,0,0", show_default=True, help="Where it began in the site, x,y,heading_deg.")
@click.option("-o", "--out", type=FILE, required=True, help="The run folder to write.")
@picture_option
@json_option
def import_command(as_json: bool, **given: Any) -> int:
    """Make a run folder from CSV (or Parquet) tables, whatever their units, so that map and locate can use it.

    Ranges of 0 or less become "no reading", and ranges beyond the lidar's farthest "nothing within reach".
    """
    return tell(run_import(ImportOptions(**given)), as_json)


@dataclass(frozen=True)
class ImportOptions:
    """What the command is given, as its help tells."""

    robot: Path
    scans: Path
    out: Path
    wheels: Path | None = None
    odometry: Path | None = None
    imu: Path | None = None
    position: Path | None = None
    truth: Path | None = None
    time_unit: str = "s"
    range_unit: str = "m"
    length_unit: str = "m"
    angle_unit: str = "rad"
    wheel_unit: str = "rad"
    acceleration_unit: str = "m/s2"
    columns: tuple[str, ...] = ()
    no_return: float | None = None
    start: str = "0,0,0"
    picture: Path | None = None

    def tables(self) -> dict[str, Path]:
        """Return the tables given, by their streams."""
        names = ("scans", "wheels", "odometry", "imu", "position", "truth")
        return {name: getattr(self, name) for name in names if getattr(self, name) is not None}


def run_import(given: ImportOptions) -> Outcome:
    """Do what the command does."""
    from vinecompass.robot import read_robot
    from vinecompass.runs import Units, import_run, write_run

    run = import_run(
        given.tables(),
        read_robot(given.robot),
        units=Units(
            given.time_unit,
            given.range_unit,
            given.length_unit,
            given.angle_unit,
            given.wheel_unit,
            given.acceleration_unit,
        ),
        columns=_columns(given),
        no_return=given.no_return,
        start=find_pose(given.start, option="--start"),
    )
    files = {"run": str(write_run(run, given.out))}
    if given.picture is not None:
        from vinecompass.figures import draw_run, save_figure

        files["picture"] = str(save_figure(draw_run(run), given.picture))
    return _told(run, files, given.out)


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


def _told(run: Run, files: dict[str, str], out: Path) -> Outcome:
    """Return what was imported, in a sentence and in numbers."""
    import numpy as np

    table = run.need_scans()
    rows = {name: len(stream.t) for name, stream in run.streams().items()}
    duration, returned = float(table.t[-1] - table.t[0]), np.isfinite(table.ranges)
    return Outcome(
        "import",
        f"{duration:.0f} s: "
        + ", ".join(f"{count} {name}" for name, count in rows.items())
        + f"; {100.0 * np.mean(returned):.0f} % of the beams return, "
        f"median range {np.median(table.ranges[returned]):.2f} m",
        quality={"duration_s": duration, "rows": rows, "beams_returned_share": np.mean(returned)},
        files=files,
        hint=f"vinecompass check {out}",
    )
