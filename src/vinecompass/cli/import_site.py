"""vinecompass import site: make a site of a map, to drive and rehearse in."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from vinecompass.cli.common import Outcome, counted, find_point, find_pose, json_option, load_map_record, tell
from vinecompass.cli.outputs import FILE, OUT, Writing
from vinecompass.errors import InputError

__all__ = ["import_site_command", "run_import_site"]


@click.command("site", cls=Writing, short_help="Make a site to drive and rehearse in of a map.")
@click.argument("map_path", metavar="MAP", type=FILE)
@click.option("--start", required=True, help="Where the robot is parked, x,y,heading_deg.")
@click.option("--stop", "stops", multiple=True, metavar="NAME:x,y,heading_deg", help="A stop. May be given again.")
@click.option(
    "--route",
    "routes",
    multiple=True,
    metavar='"NAME:x,y x,y ..."',
    help="A route to record along. May be given again.",
)
@click.option("-o", "--out", type=OUT, required=True, help="The site to write, a .toml file.")
@json_option
def import_site_command(
    map_path: Path, start: str, stops: tuple[str, ...], routes: tuple[str, ...], out: Path, as_json: bool
) -> int:
    """Make a site of MAP: its walls and zones, so that `drive`, `simulate`, `live` and `tune` can be tried in them.

    What the map does not show is not in it: add people, floor with less grip, or a crate to the file, as it is text.
    """
    return tell(run_import_site(map_path, start, stops, routes, out), as_json)


def run_import_site(map_path: Path, start: str, stops: tuple[str, ...], routes: tuple[str, ...], out: Path) -> Outcome:
    """Do what the command does."""
    from vinecompass.simulation import site_from_map, write_site

    mapped = load_map_record(map_path)
    site = site_from_map(
        mapped.grid,
        find_pose(start, option="--start"),
        name=map_path.stem,
        zones=mapped.zones,
        stops=dict(_stop(text) for text in stops),
        routes=dict(_route(text) for text in routes),
    )
    write_site(site, out)
    goal = site.stops[0].name if site.stops else "x,y,heading_deg"
    return Outcome(
        "import site",
        f"{counted(len(site.walls), 'outline')} of {counted(len(site.segments), 'edge')}, "
        f"{counted(len(site.zones), 'zone')}, {counted(len(site.stops), 'stop')}, {counted(len(site.routes), 'route')}",
        quality={"outlines": len(site.walls), "edges": len(site.segments), "zones": len(site.zones)},
        files={"site": str(out)},
        hint=f'vinecompass drive {out} --robot robot.toml --map {map_path} --to "{goal}" -o mission',
    )


def _stop(text: str) -> tuple[str, Any]:
    name, pose = _named(text, "--stop", "NAME:x,y,heading_deg")
    return name, find_pose(pose, option="--stop")


def _route(text: str) -> tuple[str, Any]:
    name, corners = _named(text, "--route", "NAME:x,y x,y ...")
    return name, [find_point(corner, option="--route") for corner in corners.split()]


def _named(text: str, option: str, wish: str) -> tuple[str, str]:
    """Return a name and what is said of it."""
    name, colon, rest = text.partition(":")
    if not colon or not name.strip():
        raise InputError("has no name", key=option, value=text, expected=wish)
    return name.strip(), rest
