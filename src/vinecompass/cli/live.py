"""vinecompass live: a page that shows a simulated robot as it drives, and takes what is pointed at."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.common import (
    FiniteRange,
    Outcome,
    counted,
    json_option,
    load_map_record,
    load_settings,
    load_site,
    read_round_or_stop,
    robot_option,
    say,
    seed_option,
    settings_option,
    tell,
)
from vinecompass.cli.outputs import FILE, OUT, Writing
from vinecompass.errors import InputError

if TYPE_CHECKING:
    from vinecompass.grids import Grid
    from vinecompass.links import SimulatedLink
    from vinecompass.settings import Settings
    from vinecompass.simulation import Site

__all__ = ["live"]


@click.command(cls=Writing, short_help="Watch a simulated robot in a browser, and point.")
@click.argument("site", type=FILE)
@robot_option
@click.option("--map", "map_path", type=FILE, help="The map to drive by.")
@click.option("--record", type=OUT, help="In place of a map: drive by hand, see the map grow, and keep the run here.")
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

    With --map you say on it where the robot is and where it is to go, put things in its way, rule the floor, turn a
    setting and see what changes, or drive by hand. With --record you drive by hand and see the map grow, and the run is
    kept.
    """
    return tell(run_live_command(**given), as_json)


def run_live_command(**given: Any) -> Outcome:
    """Do what the command does."""
    from vinecompass.links import SimulatedLink
    from vinecompass.robot import read_robot
    from vinecompass.runs import check_run_folder

    if (given["map_path"] is None) == (given["record"] is None):
        raise InputError("is needed, or a run to record", key="--map", expected="one of --map MAP and --record RUN")
    for folder in (given["out"], given["record"]):
        if folder is not None:
            check_run_folder(folder)
    mapped = None if given["map_path"] is None else load_map_record(given["map_path"])
    site = load_site(given["site"], () if mapped is None else mapped.zones)
    robot, settings = read_robot(given["robot"]), load_settings(given["settings"])
    link = SimulatedLink(site, robot, seed=given["seed"], rate=settings.navigation.rate, fusion=settings.fusion)
    seconds = float("inf") if given["seconds"] is None else given["seconds"]
    where = {"address": given["address"], "port": given["port"]}
    if mapped is None:
        return _recorded(link, settings, given["record"], given["site"], seconds, where)
    return _driven(link, site, mapped.grid, settings, given, seconds, where)


def _recorded(
    link: SimulatedLink, settings: Settings, folder: Path, site: Path, seconds: float, where: dict[str, Any]
) -> Outcome:
    """Let a person drive, and keep the run."""
    from vinecompass.files import read_text
    from vinecompass.pages import LiveRecording, record_live
    from vinecompass.runs import write_run

    with LiveRecording(link, settings=settings, **where) as recording:
        _say_where(recording.url)
        try:
            record_live(recording, seconds=seconds)
        except KeyboardInterrupt:
            say("", err=True)
    run = link.run(read_text(site))
    files = {"run": str(write_run(run, folder))}
    closed = len(recording.mapper.closed_loops)
    way = 0.0 if run.truth is None else run.truth.length
    quality = {"driven_s": link.t, "way_m": way, "loops_closed": closed, "contacts": link.contacts}
    came_of_it = f"{counted(closed, 'loop')} closed, {counted(link.contacts, 'contact')}"
    line = f"{link.t:.0f} s and {way:.1f} m recorded, {came_of_it}"
    return Outcome("live", line, quality=quality, files=files, hint=f"vinecompass map {folder} -o map.png")


def _driven(
    link: SimulatedLink,
    site: Site,
    grid: Grid,
    settings: Settings,
    given: dict[str, Any],
    seconds: float,
    where: dict[str, Any],
) -> Outcome:
    """Let the navigator drive, and a person point."""
    from vinecompass.files import read_text
    from vinecompass.navigation import Navigator, warm_up
    from vinecompass.pages import Live, run_live
    from vinecompass.rehearsal import MomentLog
    from vinecompass.runs import write_run

    robot, out = link.simulator.robot, given["out"]
    goals: Any = link.pose
    if given["goal"] is not None or given["round_path"] is not None:
        goals = read_round_or_stop(given["goal"], given["round_path"], site).goals(site.stops, where=site.name)
    say("getting ready", err=True)
    warm_up(robot)
    navigator = Navigator(
        grid, robot, link.pose, goals, zones=site.zones, settings=settings, seed=given["seed"], plans_beside=True
    )
    moments = MomentLog()
    with Live(navigator, zones=site.zones, stops=site.stops, settings=settings, link=link, **where) as page:
        _say_where(page.url)
        try:
            run_live(link, page, seconds=seconds, watch=moments)
        except KeyboardInterrupt:
            say("", err=True)
    files = {}
    if out is not None:
        records = navigator.log.files() | moments.files()
        files["run"] = str(write_run(link.run(read_text(given["site"])), out, records=records))
    reached = sum(each.status == "reached" for each in navigator.log.stops)
    quality = {"driven_s": link.t, "state": str(navigator.state), "reached": reached, "contacts": link.contacts}
    hint = f"vinecompass replay {out} --map {given['map_path']} -o replay.html" if out is not None else ""
    line = f"{link.t:.0f} s driven; stops reached: {reached}, contacts: {link.contacts}"
    return Outcome("live", line, quality=quality, files=files, hint=hint)


def _say_where(url: str) -> None:
    say(f"open {url} in a browser; control-C, or End on the page, ends it", err=True)
