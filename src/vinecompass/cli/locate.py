"""vinecompass locate: localize a run in a map."""

from __future__ import annotations

from pathlib import Path

import click

from vinecompass.cli.common import (
    FILE,
    Outcome,
    find_pose,
    json_option,
    load_map,
    load_settings,
    picture_option,
    progress_bar,
    seed_option,
    settings_option,
    tell,
)  # fmt: skip

__all__ = ["locate", "run_locate"]


@click.command(short_help="Localize a run in a map.")
@click.argument("map", type=FILE)
@click.argument("run", type=FILE)
@click.option("--at", help="Where it began, roughly, x,y,heading_deg; the run's own start if not given.")
@click.option("-o", "--out", type=FILE, required=True, help="The track to write, a CSV file.")
@settings_option
@seed_option
@picture_option
@json_option
def locate(
    map: Path, run: Path, at: str | None, out: Path, settings: Path | None, seed: int, picture: Path | None,
    as_json: bool,
) -> int:  # fmt: skip
    """Localize RUN in MAP with a particle filter, from a rough initial pose. Exit status 1 if it never settles."""
    return tell(run_locate(map, run, at, out, settings=settings, seed=seed, picture=picture), as_json)


def run_locate(
    map_path: Path, run_path: Path, at: str | None, out: Path, *, settings: Path | None = None, seed: int,
    picture: Path | None,
) -> Outcome:  # fmt: skip
    """Do what the command does."""
    import numpy as np

    from vinecompass.localization import localize
    from vinecompass.runs import compare_tracks, read_run, write_track

    grid, run = load_map(map_path), read_run(run_path)
    initial_pose = run.start if at is None else find_pose(at, option="--at")
    with progress_bar() as progress:
        found = localize(
            grid, run, initial_pose, settings=load_settings(settings).localization, seed=seed, progress=progress
        )
    settled, truth = found.settled_at is not None, {}
    agreement = float(np.nanmean(found.agreements)) if np.any(np.isfinite(found.agreements)) else float("nan")
    if found.settled_at is None:
        line = f"never settled in {found.track.length:.1f} m: mean agreement of scans and map {agreement:.2f}"
    else:
        line = f"settled after {found.settled_after:.1f} m, mean agreement {agreement:.3f}"
    if run.truth is not None and found.settled_at is not None:
        error = compare_tracks(found.track, run.truth).since(found.track.t[found.settled_at])
        truth = {
            "position_rmse_m": error.position_rmse, "heading_rmse_deg": np.degrees(error.heading_rmse),
            "largest_position_error_m": error.position.max(),
            "largest_heading_error_deg": np.degrees(np.abs(error.heading).max()),
        }  # fmt: skip
        line += f", then {error.position_rmse:.3f} m and {truth['heading_rmse_deg']:.2f} degrees off (RMSE)"
    files = {"track": str(write_track(found.track, out))}
    if picture is not None:
        from vinecompass.figures import draw_localization, save_figure

        files["picture"] = str(save_figure(draw_localization(grid, run, found), picture))
    return Outcome(
        "locate", line,
        quality={
            "settled": settled, "settled_after_m": found.settled_after, "agreement_mean": agreement,
            "last_spread_m": found.spreads[-1, 0], "last_spread_deg": np.degrees(found.spreads[-1, 1]),
        },
        truth=truth, files=files, done=settled,
        hint=f"vinecompass price {map_path} --robot {run_path / 'robot.toml'} --picture prices.png",
    )  # fmt: skip
