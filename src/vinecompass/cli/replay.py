"""vinecompass replay: a page that plays a run or a mission."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING

import click

from vinecompass.cli.common import (
    Outcome,
    find_pose,
    json_option,
    load_map_record,
    load_settings,
    progress_bar,
    seed_option,
    settings_option,
    tell,
)
from vinecompass.cli.outputs import FILE, OUT, Writing

if TYPE_CHECKING:
    from collections.abc import Sequence

    from vinecompass.grids import Grid, Zone
    from vinecompass.pages import Play

__all__ = ["replay", "run_replay"]


@click.command(cls=Writing, short_help="Make a page that plays a run or a mission.")
@click.argument("run", type=FILE)
@click.option("--map", "map_path", type=FILE, help="The map to play on; without one, the run is mapped.")
@click.option("--beside", type=FILE, metavar="RUN", help="Another one on the same map, with the same slider.")
@click.option(
    "--at", help="Where a run without a record begins on the map, x,y,heading_deg; as the run says by default."
)
@click.option("-o", "--out", type=OUT, required=True, help="The HTML file to write.")
@click.option("--film", type=OUT, help="A film of it besides: a .gif, or an .mp4 where ffmpeg is installed.")
@settings_option
@seed_option
@json_option
def replay(
    run: Path,
    map_path: Path | None,
    beside: Path | None,
    at: str | None,
    out: Path,
    film: Path | None,
    settings: Path | None,
    seed: int,
    as_json: bool,
) -> int:
    """Write one page, whole in itself, that plays RUN: a line of time with what happened on it, and the map above.

    A mission that `drive -o` wrote is played with all that it saw and weighed; a recorded run is localized on the map,
    or mapped if there is none.
    """
    return tell(
        run_replay(run, out, map_path=map_path, beside=beside, at=at, film=film, settings=settings, seed=seed), as_json
    )


def run_replay(
    run: Path,
    out: Path,
    *,
    map_path: Path | None = None,
    beside: Path | None = None,
    at: str | None = None,
    film: Path | None = None,
    settings: Path | None = None,
    seed: int = 0,
) -> Outcome:
    """Do what the command does."""
    from vinecompass.costs import price_floor
    from vinecompass.errors import InputError
    from vinecompass.files import REPLAY, check_suffix
    from vinecompass.pages import read_play, write_film, write_replay

    check_suffix(out, ".html", REPLAY)
    if map_path is None and beside is not None:
        raise InputError("needs the map that both are played on", key="--beside", value=beside, expected="--map MAP")
    if map_path is None:
        grid, plays = _mapped(run, settings)
        zones: Sequence[Zone] = ()
    else:
        mapped = load_map_record(map_path)
        grid, zones = mapped.grid, mapped.zones
        start = None if at is None else find_pose(at, option="--at")
        plays = [read_play(path, grid, start=start, seed=seed) for path in (run, beside) if path is not None]
    costmap = price_floor(grid, plays[0].run.robot, zones=zones, settings=load_settings(settings).costs)
    page = write_replay(plays, grid, out, costmap=costmap, zones=zones)
    files = {"page": str(page)}
    if film is not None:
        files["film"] = str(write_film(plays[0], grid, film))
    size = page.stat().st_size
    line = f"{len(plays[0].moments)} moments of {plays[0].t[-1] - plays[0].t[0]:.0f} s, {size / 1e6:.1f} MB"
    quality = {
        "moments": [len(play.moments) for play in plays],
        "events": [len(play.events) for play in plays],
        "size_bytes": size,
    }
    return Outcome("replay", line, quality=quality, files=files, hint=f"open {page} in a browser")


def _mapped(run_path: Path, settings: Path | None) -> tuple[Grid, list[Play]]:
    """Return the map of a run, and the run as that came about."""
    from vinecompass.mapping import build_map
    from vinecompass.pages import play_of_mapping
    from vinecompass.runs import cleaned, read_run

    run, _ = cleaned(read_run(run_path, as_recorded=True))
    with progress_bar() as progress:
        mapping = build_map(run, settings=load_settings(settings).mapping, progress=progress)
    return mapping.grid, [play_of_mapping(run, mapping, run_path.name)]
