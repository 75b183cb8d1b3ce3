"""vinecompass check: the health report of a run."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.clock import read_told_run
from vinecompass.cli.common import Outcome, json_option, picture_option, progress_bar, tell
from vinecompass.cli.outputs import FILE, Writing

if TYPE_CHECKING:
    from vinecompass.health import FrameLink, Health

__all__ = ["check_command", "run_check"]


@click.command("check", cls=Writing, short_help="See whether a run can be trusted, and what is wrong with it.")
@click.argument("run", type=FILE)
@picture_option
@json_option
def check_command(run: Path, picture: Path | None, as_json: bool) -> int:
    """Check RUN: stamps, rates, gaps, units, clocks, what the scanner sees and where it sits, and slipping wheels.

    The verdict is good, usable or broken; every finding comes with its evidence, when, and what to do. Exit status 1
    if the run is broken.
    """
    return tell(run_check(run, picture=picture), as_json)


def run_check(run_path: Path, *, picture: Path | None) -> Outcome:
    """Do what the command does."""
    from vinecompass.health import check

    run, clock = read_told_run(run_path)
    with progress_bar() as progress:
        health = check(run, progress=progress)
    files = {}
    if picture is not None:
        from vinecompass.figures import draw_health, save_figure

        files["picture"] = str(save_figure(draw_health(health, run), picture))
    counts = [f"{sum(f.severity == s for f in health.findings)} {s}" for s in ("fatal", "serious", "slight")]
    told = "nothing found" if not health.findings else ", ".join(c for c in counts if not c.startswith("0"))
    return Outcome(
        "check",
        f"{run_path} is {health.verdict}: {told}",
        details=[*clock.sentences(), *_details(health)],
        quality=_quality(health) | {"times_count_from_s": clock.begins},
        files=files,
        done=health.verdict != "broken",
        hint=f"vinecompass fuse {run_path}" if health.verdict != "broken" else "mend what is fatal, then check again",
    )


def _quality(health: Health) -> dict[str, Any]:
    """Return what was found, in numbers and words."""
    return {
        "verdict": health.verdict,
        "findings": [
            {
                "severity": f.severity,
                "stream": f.stream,
                "fault": f.fault,
                "evidence": f.evidence,
                "begin_s": f.begin,
                "end_s": f.end,
                "advice": f.advice,
            }
            for f in health.findings
        ],
        "streams": {
            name: {
                "rows": s.rows,
                "begin_s": s.begin,
                "end_s": s.end,
                "rate_hz": s.rate,
                "longest_pause_s": s.longest_pause,
                "jitter_share": s.jitter,
            }
            for name, s in health.streams.items()
        },
        "missing": health.missing,
        "not_told": list(health.untold),
        "clock_offsets_s": health.clock_offsets,
        "frames": [
            {
                "parent": f.parent,
                "child": f.child,
                "provided_by": f.provider,
                "rate_hz": f.rate,
                "needed_for": f.needed_for,
            }
            for f in health.frames
        ],
    }


def _details(health: Health) -> list[str]:
    lines = []
    for f in health.findings:
        lines.append(f"{f.severity}: {f.stream}: {f.fault}, {f.begin:.1f} to {f.end:.1f} s: {f.evidence}")
        lines.append(f"    do: {f.advice}")
    lines += [
        "",
        f"{'stream':<10} {'rows':>7} {'Hz':>7} {'from, s':>9} {'to, s':>9} {'longest pause, s':>17} {'jitter':>7}",
    ]
    for name, s in health.streams.items():
        lines.append(
            f"{name:<10} {s.rows:>7} {s.rate:>7.1f} {s.begin:>9.2f} {s.end:>9.2f} {s.longest_pause:>17.3f} "
            f"{100.0 * s.jitter:>5.0f} %"
        )
    lines += [f"{name:<10} missing: {cost}" for name, cost in health.missing.items()]
    lines += ["", "frames"]
    depth = {"site": 0, "track": 1, "body": 2}
    lines.append("site")
    last = {link.parent: link for link in health.frames}
    lines += [_branch(link, depth[link.parent], last[link.parent] is link) for link in health.frames]
    if health.untold:
        lines += ["", *(f"not told: {text}" for text in health.untold)]
    return lines


def _branch(link: FrameLink, depth: int, last: bool) -> str:
    rate = "" if link.rate is None else f", {link.rate:.0f} Hz"
    by = f"{link.provider}{rate}" if link.provider else f"nobody; needed for {link.needed_for}"
    return f"{'   ' * depth}{'└─' if last else '├─'} {link.child}: {by}"
