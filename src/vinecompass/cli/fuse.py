"""vinecompass fuse: motion from all of a run's sensors together, or a robot file amended by it."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.clock import read_told_run
from vinecompass.cli.common import (
    Outcome,
    json_option,
    load_settings,
    picture_option,
    progress_bar,
    settings_option,
    tell,
    with_doubts,
)
from vinecompass.cli.outputs import FILE, OUT, Writing
from vinecompass.errors import InputError

if TYPE_CHECKING:
    from vinecompass.fusion import Calibration, EstimatedValue, Fused, SourceError

__all__ = ["fuse_command", "run_estimate_mount", "run_fuse"]


@click.command("fuse", cls=Writing, short_help="Fuse wheels, IMU, scans and position fixes into one track.")
@click.argument("run", type=FILE)
@click.option("--use", help="Sources to use, such as wheels,imu: of imu, wheels, odometry, scans, position.")
@click.option("-o", "--out", type=OUT, help="A track to write, NAME.csv; or a run folder with it as its odometry.")
@click.option(
    "--estimate-mount",
    is_flag=True,
    help="Estimate lidar mount, wheels, gyro, clock, and the base's delay and lag instead, and write "
    "the amended robot file (-o NAME.toml; amended-robot.toml if not given).",
)
@settings_option
@picture_option
@json_option
def fuse_command(
    run: Path,
    use: str | None,
    out: Path | None,
    estimate_mount: bool,
    settings: Path | None,
    picture: Path | None,
    as_json: bool,
) -> int:
    """Fuse what RUN recorded of its motion, and compare each source with the result, and with the truth if known."""
    if estimate_mount:
        for given, option in ((use, "--use"), (picture, "--picture"), (settings, "--settings")):
            if given is not None:
                raise InputError(
                    "does not go with --estimate-mount", key=option, value=str(given), expected="one of them"
                )
        return tell(run_estimate_mount(run, out or Path("amended-robot.toml")), as_json)
    sources = None if use is None else [name.strip() for name in use.split(",")]
    return tell(run_fuse(run, sources=sources, out=out, settings=settings, picture=picture), as_json)


def run_fuse(
    run_path: Path,
    *,
    sources: list[str] | None = None,
    out: Path | None = None,
    settings: Path | None = None,
    picture: Path | None,
) -> Outcome:
    """Do what the command does."""
    from dataclasses import asdict, replace

    from vinecompass.files import TRACK, check_suffix
    from vinecompass.fusion import compare_sources, fuse
    from vinecompass.runs import check_run_folder, write_run, write_track

    if out is not None and out.suffix:
        check_suffix(out, ".csv", TRACK)
    elif out is not None:
        check_run_folder(out)
    run, clock = read_told_run(run_path)
    with progress_bar() as progress:
        fused = fuse(run, sources=sources, settings=load_settings(settings).fusion, progress=progress)
    rows = {name: _in_numbers(error) for name, error in compare_sources(fused, run).items()}
    files = {}
    if out is not None and out.suffix:
        files["track"] = str(write_track(clock.recorded_track(fused.track), out))
    elif out is not None:
        files["run"] = str(write_run(clock.recorded(replace(fused.run, odometry=fused.track)), out))
    if picture is not None:
        from vinecompass.figures import draw_fusion, save_figure

        files["picture"] = str(save_figure(draw_fusion(fused, fused.run), picture))
    by_truth = run.truth is not None
    measured = {f"{source}_{key}": value for source, row in rows.items() for key, value in row.items()}
    return Outcome(
        "fuse",
        _line(fused, rows["fused"] if by_truth else None),
        done=not fused.doubts,
        details=[*clock.sentences(), *_details(fused, rows, "truth" if by_truth else "the fused track")],
        quality={
            "times_count_from_s": clock.begins,
            "way_m": fused.track.length,
            "slip_s": float((fused.slips[:, 1] - fused.slips[:, 0]).sum()),
            "slips_s": fused.slips.round(2).tolist(),
            "notes": list(fused.notes),
            "doubts": list(fused.doubts),
            "sources": {name: asdict(report) for name, report in fused.report.items()},
            "learned": _noises(fused.learned),
            **({} if by_truth else {"beside_fused": measured}),
        },
        truth=measured if by_truth else {},
        files=files,
        hint=f"vinecompass map {out} -o map.png"
        if "run" in files
        else f"vinecompass fuse {run_path} -o fused-run, then vinecompass map fused-run -o map.png",
    )


def _line(fused: Fused, beside_truth: dict[str, float] | None) -> str:
    """Return the result in one line; `beside_truth` is how far the fused track is off, where the truth is known."""
    line = f"{', '.join(fused.report)}: {fused.track.length:.1f} m"
    if beside_truth is not None:
        line += (
            f"; ends {beside_truth['end_error_m']:.2f} m and {beside_truth['end_error_deg']:.1f} degrees off the "
            f"truth, {100.0 * beside_truth['drift_share']:.2f} % of the way"
        )
    return with_doubts(line, fused.doubts)


def _in_numbers(error: SourceError) -> dict[str, float]:
    """Return how far a source is off, each number under a key that ends with its unit."""
    return {
        "end_error_m": error.end_position,
        "end_error_deg": math.degrees(error.end_heading),
        "drift_share": error.drift,
        "rmse_m": error.position_rmse,
        "rmse_deg": math.degrees(error.heading_rmse),
        "worst_m": error.worst,
        "worst_at_s": error.worst_t,
        "worst_x_m": error.worst_x,
        "worst_y_m": error.worst_y,
    }


def _noises(learned: dict[str, EstimatedValue]) -> dict[str, float]:
    """Return the noises that a run tells, each under a key that ends with its unit, and what is filed."""
    told = {name + UNITS[name][0]: noise.value for name, noise in learned.items() if noise.known}
    return told | {f"{name}_filed{UNITS[name][0]}": noise.filed for name, noise in learned.items() if noise.known}


def _details(fused: Fused, rows: dict[str, dict[str, float]], beside: str) -> list[str]:
    from vinecompass.fusion import contradictions, noise_advice

    lines = [f"{'beside ' + beside:<22} {'end, m':>8} {'deg':>7} {'% of way':>9} {'RMSE, m':>8} {'deg':>6}  worst"]
    for name, r in rows.items():
        lines.append(
            f"{name:<22} {r['end_error_m']:>8.2f} {r['end_error_deg']:>7.1f} {100.0 * r['drift_share']:>9.2f} "
            f"{r['rmse_m']:>8.2f} {r['rmse_deg']:>6.1f}  {r['worst_m']:.2f} m at {r['worst_at_s']:.1f} s, "
            f"{r['worst_x_m']:.1f}, {r['worst_y_m']:.1f}"
        )
    lines += ["", f"{'source':<10} {'taken':>7} {'gated':>7} {'late':>6} {'refused':>8} {'innovation':>11}"]
    for name, report in fused.report.items():
        lines.append(
            f"{name:<10} {report.taken:>7} {report.gated:>7} {report.late:>6} {report.refused:>8} "
            f"{report.normalised_innovation:>11.2f}  {_judged(name, report.normalised_innovation)}"
        )
    wrong = contradictions(fused.learned)
    lines += [f"{noise_advice(name, noise)} (filed {noise.filed:g})" for name, noise in wrong.items()]
    lines += [f"{fused.slipping} not believed from {a:.1f} to {b:.1f} s" for a, b in fused.slips]
    return [*lines, *fused.notes]


USUALLY_LOW = {
    "imu": "leads the others: only liveliness tells against it",
    "scans": "as expected: those of one reference count for one",
}
"""Why the innovations of a source are small though its noise is set right."""


def _judged(source: str, innovation: float) -> str:
    if innovation > 2.0:
        return "its noise is set too small, or it is wrong"
    if innovation < 0.3:
        return USUALLY_LOW.get(source, "its noise is set too large")
    return "as expected"


def run_estimate_mount(run_path: Path, out: Path) -> Outcome:
    """Do what the command does with ``--estimate-mount``."""
    from vinecompass.files import atomic_write, check_suffix, read_text
    from vinecompass.fusion import amend_robot_file, estimate_mount
    from vinecompass.runs import cleaned, read_run

    check_suffix(out, ".toml", "a vinecompass robot")
    run, left_out = cleaned(read_run(run_path, as_recorded=True))
    with progress_bar() as progress:
        calibration = estimate_mount(run, progress=progress)
    atomic_write(out, amend_robot_file(read_text(run_path / "robot.toml"), calibration))
    quality: dict[str, Any] = {"segments": calibration.segments, "mirrored": calibration.mirrored}
    for name, value in calibration.values.items():
        unit, factor = UNITS[name]
        quality[name + unit] = factor * value.value
        quality[f"{name}_error{unit}"] = factor * value.error
        quality[f"{name}_filed{unit}"] = factor * value.filed
    x, y, heading = (calibration.values[key] for key in ("mount_x", "mount_y", "mount_heading"))
    degrees = UNITS["mount_heading"][1]
    return Outcome(
        "fuse",
        f"the lidar sits at [{x.value:.3f} +- {x.error:.3f}, {y.value:.3f} +- {y.error:.3f}] m, "
        f"{degrees * heading.value:.2f} +- {degrees * heading.error:.2f} degrees",
        details=[*_values(calibration), *left_out],
        quality=quality,
        files={"robot": str(out)},
        hint=f"compare {out} with your robot file, put it into the run as robot.toml, and check again",
    )


UNITS = {
    "mount_x": ("_m", 1.0),
    "mount_y": ("_m", 1.0),
    "mount_heading": ("_deg", 57.29577951308232),
    "stamp_offset": ("_s", 1.0),
    "sweep_time": ("_s", 1.0),
    "wheel_radius": ("_m", 1.0),
    "track_width": ("_m", 1.0),
    "turn_rate_bias": ("_rad_per_s", 1.0),
    "turn_rate_scale": ("", 1.0),
    "delay": ("_s", 1.0),
    "lag": ("_s", 1.0),
    "wheel_difference": ("", 1.0),
    "slip": ("", 1.0),
    "turn_rate_noise": ("_rad_per_s", 1.0),
    "acceleration_noise": ("_m_per_s2", 1.0),
    "turn_rate_bias_walk": ("_rad_per_s", 1.0),
    "range_noise": ("_m", 1.0),
    "range_noise_per_metre": ("", 1.0),
}
"""The unit of each estimate as keys end with it, and what turns it into that unit."""


def _values(calibration: Calibration) -> list[str]:
    lines = [f"{'value':<28} {'estimate':>10} {'+-':>9} {'robot file':>11}"]
    for name, value in calibration.values.items():
        unit, factor = UNITS[name]
        verdict = "amended" if value.known else "too unsure, left as it was"
        lines.append(
            f"{name + unit:<28} {factor * value.value:>10.4g} {factor * value.error:>9.2g} "
            f"{factor * value.filed:>11.4g}  {verdict}"
        )
    if calibration.mirrored:
        lines.append("the scans turn the other way round than the wheels: first_beam_deg and last_beam_deg are swapped")
    return lines
