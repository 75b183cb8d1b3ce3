"""vinecompass import: make a run from tables that anyone recorded."""

from __future__ import annotations

from pathlib import Path

import click

from vinecompass.cli.common import FILE, Outcome, find_pose, json_option, picture_option, robot_option, tell
from vinecompass.errors import InputError

__all__ = ["import_command"]


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
def import_command(
    robot: Path,
    scans: Path,
    wheels: Path | None,
    odometry: Path | None,
    imu: Path | None,
    position: Path | None,
    truth: Path | None,
    time_unit: str,
    range_unit: str,
    length_unit: str,
    angle_unit: str,
    wheel_unit: str,
    acceleration_unit: str,
    columns: tuple[str, ...],
    no_return: float | None,
    start: str,
    out: Path,
    picture: Path | None,
    as_json: bool,
) -> int:
    """Make a run folder from CSV (or Parquet) tables, whatever their units, so that map and locate can use it.

    Ranges of 0 or less become "no reading", and ranges beyond the lidar's farthest "nothing within reach".
    """
    import numpy as np

    from vinecompass.robot import read_robot
    from vinecompass.runs import Units, import_run, write_run

    given = {"scans": scans, "wheels": wheels, "odometry": odometry, "imu": imu, "position": position, "truth": truth}
    names = {}
    for item in columns:
        ours, separator, yours = item.partition("=")
        stream, dot, _ = ours.partition(".")
        if not (separator and dot and yours and given.get(stream)):
            raise InputError(
                "does not name a column of a table given",
                key="--column",
                value=item,
                expected="such as wheels.left=encoder_l",
            )
        names[ours] = yours
    run = import_run(
        {stream: path for stream, path in given.items() if path is not None},
        read_robot(robot),
        units=Units(time_unit, range_unit, length_unit, angle_unit, wheel_unit, acceleration_unit),
        columns=names,
        no_return=no_return,
        start=find_pose(start, option="--start"),
    )
    write_run(run, out)
    files = {"run": str(out)}
    if picture is not None:
        from vinecompass.figures import draw_run, save_figure

        files["picture"] = str(save_figure(draw_run(run), picture))
    table = run.need_scans()
    rows = {name: len(stream.t) for name, stream in run.streams().items()}
    duration = float(table.t[-1] - table.t[0])
    outcome = Outcome(
        "import",
        f"{duration:.0f} s: "
        + ", ".join(f"{count} {name}" for name, count in rows.items())
        + f"; {100.0 * np.mean(np.isfinite(table.ranges)):.0f} % of the beams return, "
        f"median range {np.median(table.ranges[np.isfinite(table.ranges)]):.2f} m",
        quality={"duration_s": duration, "rows": rows, "beams_returned_share": np.mean(np.isfinite(table.ranges))},
        files=files,
        hint=f"vinecompass check {out}",
    )
    return tell(outcome, as_json)
