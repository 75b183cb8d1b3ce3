"""vinecompass judge: how good a map is, by itself or beside another."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from vinecompass.cli.common import Outcome, counted, json_option, picture_option, tell
from vinecompass.cli.outputs import FILE, Writing

__all__ = ["judge_command", "run_judge"]

TOLD = 8
"""Findings told in words; the rest is counted."""


@click.command("judge", cls=Writing, short_help="Judge a map, by itself or against another.")
@click.argument("map_path", metavar="MAP", type=FILE)
@click.option("--against", type=FILE, help="Another map of the same floor: what changed since?")
@picture_option
@json_option
def judge_command(map_path: Path, against: Path | None, picture: Path | None, as_json: bool) -> int:
    """Report on MAP: wall thickness, walls drawn twice, open edges, unknown floor.

    With --against, the other map is laid on MAP, wherever it lies, and what is new, gone or moved is listed.
    """
    return tell(run_judge(map_path, against=against, picture=picture), as_json)


def run_judge(map_path: Path, *, against: Path | None = None, picture: Path | None = None) -> Outcome:
    """Do what the command does."""
    from vinecompass.grids import read_map_record

    record = read_map_record(map_path)
    notes = [record.painted] if record.painted else []
    if against is not None:
        return _compared(record.grid, map_path, against, picture, notes)
    from vinecompass.judging import judge_map

    grid, quality = record.grid, judge_map(record.grid)
    files = {}
    if picture is not None:
        from vinecompass.figures import draw_quality, save_figure

        files["picture"] = str(save_figure(draw_quality(grid, quality), picture))
    making = record.making
    if making is not None:
        notes.append(
            f"made of {making.scans_kept} scans that agreed by {making.agreement:.2f}; "
            f"{counted(making.loops_closed, 'loop')} closed, "
            f"which miss by {1000.0 * making.loop_error:.0f} mm and {making.loop_error_deg:.2f} degrees (RMS)"
        )
    edges, doubled = ([s for s in quality.spots if s.kind == kind] for kind in ("open edge", "double line"))
    details = [f"{s.kind}, {s.length:.1f} m long, at {s.x:.1f}, {s.y:.1f}" for s in quality.spots[:TOLD]]
    if len(quality.spots) > TOLD:
        details.append(f"and {len(quality.spots) - TOLD} shorter ones")
    return Outcome(
        "judge",
        f"walls {100.0 * quality.wall_thickness:.0f} cm thick, {counted(len(doubled), 'double line')}; "
        f"{100.0 * quality.unknown_share:.0f} % of the floor unknown, {counted(len(edges), 'open edge')}; "
        f"{100.0 * quality.unsure_share:.0f} % of the observed cells hardly decided",
        quality={
            "wall_thickness_m": quality.wall_thickness,
            "double_lines": len(doubled),
            "open_edges": len(edges),
            "open_edges_m": sum(s.length for s in edges),
            "unknown_share": quality.unknown_share,
            "unsure_share": quality.unsure_share,
            "closed": quality.closed,
            "notes": notes,
            "making": None
            if making is None
            else {
                "scans_kept": making.scans_kept,
                "agreement": making.agreement,
                "loops_closed": making.loops_closed,
                "loop_error_m": making.loop_error,
                "loop_error_deg": making.loop_error_deg,
            },
            "spots": [{"kind": s.kind, "x_m": s.x, "y_m": s.y, "length_m": s.length} for s in quality.spots],
        },
        files=files,
        details=notes + details,
        hint=f"drive past the open edges once more, or close them: vinecompass edit {map_path} --help",
    )


def _compared(grid: Any, map_path: Path, against: Path, picture: Path | None, notes: list[str]) -> Outcome:
    import numpy as np

    from vinecompass.grids import read_map
    from vinecompass.judging import compare_maps

    found = compare_maps(grid, read_map(against))
    x, y, heading = found.alignment.pose
    files = {}
    if picture is not None:
        from vinecompass.figures import draw_comparison, save_figure

        files["picture"] = str(save_figure(draw_comparison(grid, found), picture))
    kinds = {kind: [thing for thing in found.things if thing.kind == kind] for kind in ("new", "vanished", "moved")}
    details = [
        f"{thing.kind}: {thing.area_m2:.2f} m2 at {thing.middle[0]:.1f}, {thing.middle[1]:.1f}"
        + ("" if thing.moved_from is None else f", from {thing.moved_from[0]:.1f}, {thing.moved_from[1]:.1f}")
        for thing in found.things[:TOLD]
    ]
    return Outcome(
        "judge",
        f"{100.0 * found.matched:.1f} % of the walls of {map_path.name} are on {against.name}, "
        f"{100.0 * found.matched_other:.1f} % the other way; "
        + ", ".join(f"{len(things)} {kind}" for kind, things in kinds.items()),
        quality={
            "matched_share": found.matched,
            "matched_other_share": found.matched_other,
            "aligned_x_m": x,
            "aligned_y_m": y,
            "aligned_heading_deg": np.degrees(heading),
            "agreement": found.alignment.agreement,
            **{kind: len(things) for kind, things in kinds.items()},
            "things": [
                {
                    "kind": t.kind,
                    "polygon_m": [list(corner) for corner in t.polygon],
                    "area_m2": t.area_m2,
                    "moved_from_m": None if t.moved_from is None else list(t.moved_from),
                }
                for t in found.things
            ],
            "notes": notes,
        },
        files=files,
        details=notes + details,
        hint=f"vinecompass edit {map_path} --help",
    )
