"""vinecompass map: build a map from a run."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING, Any, Literal

import click

from vinecompass.cli.clock import read_told_run
from vinecompass.cli.common import (
    Outcome,
    counted,
    json_option,
    load_settings,
    odometry_option,
    picture_option,
    progress_bar,
    settings_option,
    tell,
    with_doubts,
)
from vinecompass.cli.outputs import FILE, OUT, Writing

if TYPE_CHECKING:
    from vinecompass.judging import MapAccuracy
    from vinecompass.mapping import Mapper, Mapping
    from vinecompass.runs import Run

__all__ = ["map_command", "run_map"]

FRAME_EVERY = 4.0
"""Seconds of the drive from one frame of the film to the next."""
LOOPS_TOLD = 3


@click.command("map", cls=Writing, short_help="Build a map from a run.")
@click.argument("run", type=FILE)
@click.option("-o", "--out", type=OUT, required=True, help="The map to write, NAME.png.")
@odometry_option
@settings_option
@picture_option
@click.option("--track", type=OUT, help="Write the way that was mapped with its covariance, NAME.csv.")
@click.option("--film", type=OUT, help="Film the map as it grows into this GIF file.")
@json_option
def map_command(
    run: Path,
    out: Path,
    odometry: Literal["fused", "wheels", "scans"],
    settings: Path | None,
    picture: Path | None,
    track: Path | None,
    film: Path | None,
    as_json: bool,
) -> int:
    """Match the scans of RUN, find places seen again, and save the map as PNG, TOML and world file.

    If the run was simulated, the map is measured against the true walls.
    """
    told = run_map(run, out, odometry=odometry, settings=settings, picture=picture, track=track, film=film)
    return tell(told, as_json)


def run_map(
    run_path: Path,
    out: Path,
    *,
    odometry: Literal["fused", "wheels", "scans"] = "fused",
    settings: Path | None = None,
    picture: Path | None,
    track: Path | None = None,
    film: Path | None = None,
) -> Outcome:
    """Do what the command does."""

    from vinecompass.files import FILM, TRACK, check_suffix
    from vinecompass.fusion import choose_odometry
    from vinecompass.grids import check_map_name, write_map
    from vinecompass.mapping import build_map
    from vinecompass.runs import cleaned, write_track

    check_map_name(out)
    if track is not None:
        check_suffix(track, ".csv", TRACK)
    watch = None
    if film is not None:
        from vinecompass.figures import MapFilm

        check_suffix(film, ".gif", FILM)
        watch = MapFilm(every=FRAME_EVERY)
    recorded, clock = read_told_run(run_path)
    run, left_out = cleaned(recorded)
    chosen = choose_odometry(run, odometry)
    doubts, left_out = chosen.doubts, (*left_out, *chosen.notes)
    with progress_bar() as progress:
        mapping = build_map(
            run,
            odometry=chosen.track,
            settings=load_settings(settings).mapping,
            watch=watch,
            progress=progress,
        )
    grid, mapper = mapping.grid, mapping.mapper
    truth, accuracy = _measured(mapping, run)
    hint = f"vinecompass locate {out} RUN --at x,y,heading_deg -o track.csv"
    files = {path.suffix[1:]: str(path) for path in write_map(grid, out, making=mapping.making)}
    if track is not None:
        files["track"] = str(write_track(clock.recorded_track(mapping.track), track))
    if picture is not None:
        from vinecompass.figures import draw_mapping, save_figure

        files["picture"] = str(save_figure(draw_mapping(mapping, run, accuracy), picture))
    if film is not None and watch is not None:
        watch.add(mapper)
        files["film"] = str(watch.save(film))
    return Outcome(
        "map",
        with_doubts(_line(mapping, truth, accuracy), doubts),
        quality=_quality(mapping)
        | {"times_count_from_s": clock.begins, "left_out": list(left_out), "doubts": list(doubts)},
        truth=truth,
        files=files,
        done=not doubts,
        details=[*clock.sentences(), *left_out, *mapping.notes, *_loops_told(mapper)],
        hint=f"vinecompass check {run_path}" if doubts else hint,
    )


def _agreement(mapping: Mapping) -> float:
    """Return how well scans agreed with the map as they came, on average."""
    import numpy as np

    return float(np.nanmean(mapping.agreements)) if len(mapping.track) > 1 else float("nan")


def _line(mapping: Mapping, truth: dict[str, float], accuracy: MapAccuracy | None) -> str:
    """Return what came of it, in a sentence."""
    rows, columns = mapping.grid.shape
    line = (
        f"{len(mapping.track)} scans, {columns} x {rows} cells, mean agreement {_agreement(mapping):.3f}, "
        f"{counted(len(mapping.mapper.closed_loops), 'loop')} closed"
    )
    if truth:
        line += f"; {truth['position_rmse_m']:.3f} m and {truth['heading_rmse_deg']:.2f} degrees off the truth (RMSE)"
    if accuracy is not None:
        line += (
            f", {100.0 * accuracy.on_wall:.1f} % of occupied cells on a wall, "
            f"{100.0 * accuracy.walls_found:.1f} % of seen walls found, {100.0 * accuracy.doubled:.1f} % doubled"
        )
    return line


def _quality(mapping: Mapping) -> dict[str, Any]:
    """Return what the mapping tells of itself."""
    grid, mapper, making = mapping.grid, mapping.mapper, mapping.making
    closed = mapper.closed_loops
    return {
        "scans": len(mapping.track),
        "scans_kept": len(mapper.keyframes),
        "agreement_mean": _agreement(mapping),
        "free_m2": grid.free.sum() * grid.cell_size**2,
        "cell_size_m": grid.cell_size,
        "odometry_scale": mapper.odometry_scale,
        "submaps": len(mapper.submaps),
        "loops_closed": len(closed),
        "loops_refused": len(mapper.loops) - len(closed),
        "loop_error_m": making.loop_error,
        "loop_error_deg": making.loop_error_deg,
        "drift_taken_out_max_m": max((loop.drift for loop in closed), default=0.0),
        "drift_taken_out_max_deg": math.degrees(max((loop.drift_turn for loop in closed), default=0.0)),
        "notes": list(mapping.notes),
    }


def _measured(mapping: Mapping, run: Run) -> tuple[dict[str, float], MapAccuracy | None]:
    """Return how far the map and its track are from the truth, if the run carries it."""
    import numpy as np

    from vinecompass.judging import measure_map
    from vinecompass.runs import compare_relations, compare_tracks
    from vinecompass.simulation import parse_site

    if run.truth is None:
        return {}, None
    error = compare_tracks(mapping.track, run.truth)
    relation = compare_relations(mapping.track, run.truth)
    truth = {
        "position_rmse_m": error.position_rmse,
        "heading_rmse_deg": float(np.degrees(error.heading_rmse)),
        "position_rmse_aligned_m": relation.aligned_rmse,
        "relation_error_m": relation.position,
        "relation_error_deg": float(np.degrees(relation.heading)),
    }
    if run.site_toml is None:
        return truth, None
    accuracy = measure_map(mapping.grid, parse_site(run.site_toml), run)
    truth |= {
        "occupied_on_wall_share": accuracy.on_wall,
        "walls_found_share": accuracy.walls_found,
        "walls_doubled_share": accuracy.doubled,
        "wall_error_rms_m": accuracy.wall_error_rms,
    }
    return truth, accuracy


def _loops_told(mapper: Mapper) -> list[str]:
    """Return a line for each of the loops that took out most drift, and one about those refused."""
    from collections import Counter

    import numpy as np

    closed = sorted(mapper.closed_loops, key=lambda loop: -loop.drift)
    lines = [
        f"loop at {loop.t:.0f} s: submap {loop.submap} shows what submap {loop.former} showed; "
        f"took out {loop.drift:.2f} m and {np.degrees(loop.drift_turn):.1f} degrees"
        + (", but says nothing along its plain walls" if loop.open_along is not None else "")
        for loop in closed[:LOOPS_TOLD]
    ]
    reasons = Counter(loop.refused.split(":")[0] for loop in mapper.loops if loop.refused)
    if reasons:
        counts = ", ".join(f"{count} {reason}" for reason, count in reasons.most_common())
        lines.append(f"{sum(reasons.values())} places were not taken for the same: {counts}")
    return lines
