"""vinecompass simulate: record a drive in a simulated site."""

from __future__ import annotations

from pathlib import Path
from typing import Literal

import click

from vinecompass.cli.common import (
    Outcome,
    json_option,
    picture_option,
    progress_bar,
    robot_option,
    seed_option,
    tell,
)
from vinecompass.cli.outputs import FILE, OUT, Writing
from vinecompass.errors import InputError

__all__ = ["run_simulate", "simulate"]


@click.command(cls=Writing, short_help="Record a drive in a simulated site.")
@click.argument("site", type=FILE)
@robot_option
@click.option("--route", required=True, help="Name of the route in the site file to drive along.")
@click.option("-o", "--out", type=OUT, required=True, help="The run folder to write.")
@click.option("--tables", type=click.Choice(["parquet", "csv"]), default="parquet", show_default=True)
@click.option(
    "--fault",
    metavar="NAME@BEGIN-END",
    help="Spoil the recording, to practise on: such as "
    '"frozen scans@20-23", seconds. A wrong name lists the right ones.',
)
@seed_option
@picture_option
@json_option
def simulate(
    site: Path,
    robot: Path,
    route: str,
    out: Path,
    tables: Literal["parquet", "csv"],
    fault: str | None,
    seed: int,
    picture: Path | None,
    as_json: bool,
) -> int:
    """Drive the robot along a route of SITE, by sight, and save what its sensors read, with the truth, as a run."""
    return tell(run_simulate(site, robot, route, out, tables=tables, fault=fault, seed=seed, picture=picture), as_json)


def run_simulate(
    site_path: Path,
    robot_path: Path,
    route: str,
    out: Path,
    *,
    tables: Literal["parquet", "csv"] = "parquet",
    fault: str | None = None,
    seed: int,
    picture: Path | None,
) -> Outcome:
    """Do what the command does."""
    import numpy as np

    from vinecompass.files import read_text
    from vinecompass.geometry import compose
    from vinecompass.odometry import odometry_track
    from vinecompass.rehearsal import inject_fault, record_drive
    from vinecompass.robot import read_robot
    from vinecompass.runs import Track, check_run_folder, compare_tracks, write_run
    from vinecompass.simulation import read_site

    check_run_folder(out)
    spoilt = None if fault is None else _find_fault(fault)
    site, robot = read_site(site_path), read_robot(robot_path)
    points = site.find_route(route).points
    with progress_bar() as progress:
        run = record_drive(site, robot, points, seed=seed, site_toml=read_text(site_path), progress=progress)
    scans = run.need_scans()
    duration = float(scans.t[-1] - scans.t[0])
    if spoilt is not None and spoilt[1] >= duration:
        raise InputError("begins after the end", key="--fault", value=fault, expected=f"within {duration:.0f} s")
    assert run.truth is not None
    reckoned = odometry_track(run)
    drift = compare_tracks(Track(reckoned.t, compose(run.start, reckoned.poses)), run.truth)
    recorded = run if spoilt is None else inject_fault(run, *spoilt, seed=seed)
    write_run(recorded, out, tables=tables)
    files = {"run": str(out)}
    if picture is not None:
        from vinecompass.figures import draw_run, save_figure

        files["picture"] = str(save_figure(draw_run(run), picture))
    return Outcome(
        "simulate",
        f"{duration:.0f} s and {run.truth.length:.0f} m along {route!r}, {len(scans)} scans; "
        f"the wheels alone end {drift.position[-1]:.1f} m and {abs(np.degrees(drift.heading[-1])):.0f} degrees off",
        quality={
            "duration_s": duration,
            "scans": len(scans),
            "beams": robot.scanner.beams,
            "beams_returned_share": np.mean(np.isfinite(scans.ranges)),
        },
        truth={
            "way_m": run.truth.length,
            "odometry_end_error_m": drift.position[-1],
            "odometry_end_error_deg": np.degrees(drift.heading[-1]),
        },
        files=files,
        hint=f"vinecompass check {out}",
    )


def _find_fault(text: str) -> tuple[str, float, float]:
    """Return name, begin and end of a fault given as ``NAME@BEGIN-END``; raise `InputError` before any long work."""
    from vinecompass.rehearsal import FAULTS

    name, _, span = text.partition("@")
    begin, _, end = span.partition("-")
    try:
        seconds = float(begin), float(end)
    except ValueError:
        seconds = None
    if name not in FAULTS or seconds is None or not seconds[0] < seconds[1]:
        raise InputError(
            "is not a fault and a span",
            key="--fault",
            value=text,
            expected=f"NAME@BEGIN-END, NAME one of: {', '.join(FAULTS)}",
        )
    return name, *seconds
