"""vinecompass live: a page that shows a simulated robot as it drives, and takes what is pointed at."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from vinecompass.cli.common import (
    FiniteRange,
    Outcome,
    json_option,
    load_map,
    load_settings,
    read_round_or_stop,
    robot_option,
    say,
    seed_option,
    settings_option,
    tell,
)
from vinecompass.cli.outputs import FILE, OUT, Writing

__all__ = ["live"]


@click.command(cls=Writing, short_help="Watch a simulated robot in the browser, and point where it is to go.")
@click.argument("site", type=FILE)
@robot_option
@click.option("--map", "map_path", type=FILE, required=True, help="The map to drive by.")
@click.option("--to", "goal", help="Name of a stop, or x,y,heading_deg, to drive to at once.")
@click.option("--round", "round_path", type=FILE, help="A round.toml to drive at once.")
@click.option("--port", type=click.IntRange(0, 65535), default=0, help="To listen at; any that is free by default.")
@click.option(
    "--address",
    default="127.0.0.1",
    show_default=True,
    help="To listen at; others than this machine's ask for a token.",
)
@click.option("--seconds", type=FiniteRange(0.1, 1e6), help="Stop after so long; by default when you press control-C.")
@click.option("-o", "--out", type=OUT, help="The run folder to write the drive's record to, in the end.")
@settings_option
@seed_option
@json_option
def live(as_json: bool, **given: Any) -> int:
    """Serve a page on this machine that shows a robot in SITE as it drives, in real time.

    On it you say where the robot is and where it is to go, put things in its way, rule the floor, turn a setting and
    see what changes, or drive by hand.
    """
    return tell(run_live_command(**given), as_json)


def run_live_command(
    *,
    site: Path,
    robot: Path,
    map_path: Path,
    goal: str | None,
    round_path: Path | None,
    port: int,
    address: str,
    seconds: float | None,
    out: Path | None,
    settings: Path | None,
    seed: int,
) -> Outcome:
    """Do what the command does."""
    import numpy as np

    from vinecompass.files import read_text
    from vinecompass.links import SimulatedLink
    from vinecompass.navigation import Navigator, warm_up
    from vinecompass.pages import Live, run_live
    from vinecompass.rehearsal import MomentLog
    from vinecompass.robot import read_robot
    from vinecompass.runs import check_run_folder, write_run
    from vinecompass.runs.run_files import MOMENTS_FILE
    from vinecompass.simulation import read_site

    if out is not None:
        check_run_folder(out)
    read, told, grid, chosen = read_site(site), read_robot(robot), load_map(map_path), load_settings(settings)
    link = SimulatedLink(read, told, seed=seed, rate=chosen.navigation.rate, fusion=chosen.fusion)
    driven = goal is not None or round_path is not None
    goals = read_round_or_stop(goal, round_path, read).goals(read.stops, where=read.name) if driven else link.pose

    say("getting ready", err=True)
    warm_up(told)
    navigator = Navigator(grid, told, link.pose, goals, zones=read.zones, settings=chosen, seed=seed, plans_beside=True)
    moments = MomentLog()
    with Live(
        navigator,
        zones=read.zones,
        stops=read.stops,
        settings=chosen,
        link=link,
        address=address,
        port=port,
    ) as page:
        say(f"open {page.url} in a browser; control-C ends it", err=True)
        try:
            run_live(link, page, seconds=np.inf if seconds is None else seconds, watch=moments)
        except KeyboardInterrupt:
            say("", err=True)
    files = {}
    if out is not None:
        records = navigator.log.files() | {MOMENTS_FILE: moments.as_file()}
        files["run"] = str(write_run(link.run(read_text(site)), out, records=records))
    quality = {
        "driven_s": link.t,
        "state": str(navigator.state),
        "reached": sum(each.status == "reached" for each in navigator.log.stops),
    }
    hint = f"vinecompass replay {out} --map {map_path} -o replay.html" if out is not None else ""
    return Outcome("live", f"{link.t:.0f} s driven, {link.contacts} contacts", quality=quality, files=files, hint=hint)
