"""vinecompass map: build a map from a run."""

from __future__ import annotations

from pathlib import Path

import click

from vinecompass.cli.common import (
    FILE,
    Outcome,
    json_option,
    load_settings,
    picture_option,
    progress_bar,
    settings_option,
    tell,
)  # fmt: skip

__all__ = ["map_command", "run_map"]


@click.command("map", short_help="Build a map from a run.")
@click.argument("run", type=FILE)
@click.option("-o", "--out", type=FILE, required=True, help="The map to write, NAME.png.")
@settings_option
@picture_option
@json_option
def map_command(run: Path, out: Path, settings: Path | None, picture: Path | None, as_json: bool) -> int:
    """Match each scan of RUN against the map so far, add it, and save the map as PNG, TOML and world file.

    If the run was simulated, the map is measured against the true walls.
    """
    return tell(run_map(run, out, settings=settings, picture=picture), as_json)


def run_map(run_path: Path, out: Path, *, settings: Path | None = None, picture: Path | None) -> Outcome:
    """Do what the command does."""
    import numpy as np

    from vinecompass.files import check_suffix
    from vinecompass.grids import write_map
    from vinecompass.mapping import build_map, measure_map
    from vinecompass.runs import compare_tracks, read_run
    from vinecompass.simulation import parse_site

    check_suffix(out, ".png")
    run = read_run(run_path)
    with progress_bar() as progress:
        mapping = build_map(run, settings=load_settings(settings).mapping, progress=progress)
    grid, accuracy, truth = mapping.grid, None, {}
    agreement = float(np.nanmean(mapping.agreements)) if len(mapping.track) > 1 else float("nan")
    line = f"{len(mapping.track)} scans, {grid.shape[1]} x {grid.shape[0]} cells, mean agreement {agreement:.3f}"
    if run.truth is not None:
        error = compare_tracks(mapping.track, run.truth)
        truth = {"position_rmse_m": error.position_rmse, "heading_rmse_deg": np.degrees(error.heading_rmse)}
        line += f"; {error.position_rmse:.3f} m and {truth['heading_rmse_deg']:.2f} degrees off the truth (RMSE)"
        if run.site_toml is not None:
            accuracy = measure_map(grid, parse_site(run.site_toml), run)
            truth |= {
                "occupied_on_wall_share": accuracy.on_wall, "walls_found_share": accuracy.walls_found,
                "walls_doubled_share": accuracy.doubled, "wall_error_rms_m": accuracy.wall_error_rms,
            }  # fmt: skip
            line += (
                f", {100.0 * accuracy.on_wall:.1f} % of occupied cells on a wall, "
                f"{100.0 * accuracy.walls_found:.1f} % of seen walls found, {100.0 * accuracy.doubled:.1f} % doubled"
            )
    files = {path.suffix[1:]: str(path) for path in write_map(grid, out)}
    if picture is not None:
        from vinecompass.figures import draw_mapping, save_figure

        files["picture"] = str(save_figure(draw_mapping(mapping, run, accuracy), picture))
    return Outcome(
        "map", line,
        quality={
            "scans": len(mapping.track), "scans_added": mapping.keyframes, "agreement_mean": agreement,
            "free_m2": grid.free.sum() * grid.cell_size**2, "cell_size_m": grid.cell_size,
        },
        truth=truth, files=files, hint=f"vinecompass locate {out} RUN --at x,y,heading_deg -o track.csv",
    )  # fmt: skip
