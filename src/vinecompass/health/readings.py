"""Are the readings sound: numbers, units, limits, a scanner that sees?"""

from __future__ import annotations

import numpy as np
import shapely
from numpy.typing import NDArray

from vinecompass.fusion import EstimatedValue
from vinecompass.health.findings import Finding, Severity
from vinecompass.robot import Robot
from vinecompass.runs import Run, Scans, readings_of, repeats
from vinecompass.runs.order import spans_of

__all__ = ["another_sweep", "check_finite", "check_ranges", "dirty_beams", "own_beams"]

FEWEST_SCANS = 20
"""Scans needed to say that a beam never returns."""
SILENT_SHARE = 0.02
"""Share of beams that return below which a scan is silent."""
ON_GLASS, DIRTY_SHARE, GONE_ABOUT = 0.3, 0.01, 0.2
"""Metres beyond the nearest that is measured within which beams end on dirt, share of the beams from which dirt is
told of, and metres by which ranges change as the robot goes about."""
CONSTANT = 0.03
"""Metres by which a range that the body itself sends back may scatter."""


def check_finite(run: Run) -> list[Finding]:
    """Find readings that are not numbers, in every stream but the ranges."""
    findings = []
    for name, stream in run.streams().items():
        bad = np.zeros(len(stream.t), dtype=bool)
        for values in readings_of(stream).values():
            bad |= ~np.isfinite(values.reshape(len(values), -1)).all(axis=1)
        if np.any(bad):
            t = stream.t[bad]
            findings.append(
                Finding(
                    "serious",
                    name,
                    "not a number",
                    f"{np.sum(bad)} of {len(bad)} readings",
                    float(np.nanmin(t)),
                    float(np.nanmax(t)),
                    "look for a loose cable; these rows are left out of every result",
                )
            )
    return findings


def check_ranges(scans: Scans, robot: Robot) -> list[Finding]:
    """Find what is wrong with what the scanner sees; the stamps must be in order."""
    lidar, t, ranges = robot.scanner, scans.t, scans.ranges
    finite = np.isfinite(ranges)
    whole = float(t[0]), float(t[-1])
    if not np.any(finite):
        return [
            Finding(
                "fatal",
                "scans",
                "no beam ever returns",
                f"{len(t)} scans without a range",
                *whole,
                "check the scanner's power, cable and driver",
            )
        ]
    typical = float(np.median(ranges[finite]))
    for unit, factor in (("millimetres", 1000.0), ("centimetres", 100.0)):
        if typical > lidar.farthest and lidar.nearest <= typical / factor <= lidar.farthest:
            return [
                Finding(
                    "fatal",
                    "scans",
                    f"{unit} taken for metres",
                    f"the median range is {typical:.0f}, the lidar reaches {lidar.farthest:g} m",
                    *whole,
                    f"import again with --how scans.length={'mm' if factor > 500.0 else 'cm'}",
                )
            ]
    findings = _silent(scans, finite) + _frozen(scans) + _out_of_limits(scans, robot)
    if any(finding.severity == "fatal" for finding in findings):
        return findings
    if len(t) >= FEWEST_SCANS:
        findings += _dead_beams(ranges, finite, robot, whole) + _blocked(ranges, robot, whole)
        findings += _dirt(ranges, robot, whole)
    return findings


def _silent(scans: Scans, finite: NDArray[np.bool_]) -> list[Finding]:
    silent = scans.t[finite.mean(axis=1) < SILENT_SHARE]
    period = float(np.median(np.diff(scans.t)))
    return [
        Finding(
            "serious",
            "scans",
            "silent scanner",
            f"fewer than {100.0 * SILENT_SHARE:.0f} % of beams return for {end - begin + period:.1f} s",
            float(begin),
            float(end) + period,
            "check the scanner's cable and driver; out of doors, that anything is within reach",
        )
        for begin, end in spans_of(silent, apart=1.5 * period, shortest=1.9 * period)
    ]


def _frozen(scans: Scans) -> list[Finding]:
    same = repeats(scans.ranges)
    severity: Severity = "fatal" if np.mean(same) > 0.5 else "serious"
    period = float(np.median(np.diff(scans.t)))
    return [
        Finding(
            severity,
            "scans",
            "frozen scans",
            f"the same ranges to the last digit for {end - begin + period:.1f} s",
            float(begin) - period,
            float(end) + period,
            "the driver repeats old data: restart it, and drive again",
        )
        for begin, end in spans_of(scans.t[same], apart=1.5 * period, shortest=0.9 * period)
    ]


def _out_of_limits(scans: Scans, robot: Robot) -> list[Finding]:
    lidar, ranges = robot.scanner, scans.ranges
    # Noise may carry a reading a little beyond either limit.
    slack = 0.05 + 5.0 * (lidar.range_noise + lidar.range_noise_per_metre * lidar.farthest)
    outside = (ranges < 0.5 * lidar.nearest) | ((ranges > lidar.farthest + slack) & np.isfinite(ranges))
    share = outside.mean(axis=1)
    severity: Severity = "fatal" if outside.mean() > 0.5 else "slight"
    findings = []
    for begin, end in spans_of(scans.t[share > 0.005], apart=2.0):
        inside = (scans.t >= begin) & (scans.t <= end)
        worst = ranges[inside][outside[inside]]
        findings.append(
            Finding(
                severity,
                "scans",
                "ranges out of limits",
                f"{100.0 * share[inside].mean():.1f} % of ranges, from "
                f"{worst.min():.2f} to {worst.max():.2f} m; "
                f"the lidar measures {lidar.nearest:g} to {lidar.farthest:g} m",
                float(begin),
                float(end),
                "import again with --how scans.nothing=NUMBER as your scanner writes it, or put the limits right",
            )
        )
    return findings


def _dead_beams(
    ranges: NDArray[np.float32], finite: NDArray[np.bool_], robot: Robot, whole: tuple[float, float]
) -> list[Finding]:
    never = np.asarray(~finite.any(axis=0) & ~np.isposinf(ranges).any(axis=0))
    findings = []
    for first, last in _runs(never, shortest=2):
        angles = np.degrees(robot.scanner.beam_angles[[first, last]])
        findings.append(
            Finding(
                "slight",
                "scans",
                "beams that never return",
                f"beams {first} to {last}, {angles.min():.0f} to {angles.max():.0f} degrees",
                *whole,
                "clean the scanner's window; see whether something covers it",
            )
        )
    return findings


def own_beams(ranges: NDArray[np.float32], robot: Robot) -> NDArray[np.bool_]:
    """Return which beams ``(beams,)`` always hit the same thing close by: the robot's own body."""
    lidar, finite = robot.scanner, np.isfinite(ranges)
    often = finite.mean(axis=0) > 0.5
    middle = np.full(ranges.shape[1], 1e3)
    middle[often] = np.nanmedian(np.where(finite, ranges, np.nan)[:, often], axis=0)
    steady = finite & (np.abs(ranges - middle) < CONSTANT)
    angles = lidar.mount_pose[2] + lidar.beam_angles
    ends = lidar.mount_pose[:2] + middle[:, None] * np.stack([np.cos(angles), np.sin(angles)], axis=-1)
    close = shapely.contains_xy(shapely.Polygon(robot.body.polygon).buffer(0.15), *ends.T)
    return np.asarray(often & close & (steady.sum(axis=0) > 0.9 * finite.sum(axis=0)))


def dirty_beams(ranges: NDArray[np.float32], robot: Robot) -> NDArray[np.bool_]:
    """Return which beams ``(beams,)`` mostly end right before the scanner though the robot goes about: on dirt."""
    quarters = ranges[np.linspace(0, len(ranges) - 1, 5).astype(int)]
    changes = np.abs(np.diff(np.where(np.isfinite(quarters), quarters, np.nan), axis=0))
    seen = np.isfinite(changes).any(axis=1)
    # Along an aisle a beam in four changes, ahead and behind.
    if not np.all(seen) or np.sum(np.nanquantile(changes, 0.75, axis=1) > GONE_ABOUT) < 2:
        return np.zeros(ranges.shape[1], dtype=bool)
    finite = np.isfinite(ranges)
    close = (finite & (ranges < ON_GLASS + robot.scanner.nearest)).sum(axis=0) > 0.5 * finite.sum(axis=0)
    return np.asarray(close & (finite.mean(axis=0) > 0.3) & ~own_beams(ranges, robot))


def _dirt(ranges: NDArray[np.float32], robot: Robot, whole: tuple[float, float]) -> list[Finding]:
    dirty = dirty_beams(ranges, robot)
    if np.mean(dirty) < DIRTY_SHARE:
        return []
    return [
        Finding(
            "serious",
            "scans",
            "dirt on the window",
            f"{np.sum(dirty)} of {len(dirty)} beams mostly end within {ON_GLASS + robot.scanner.nearest:.2f} m, "
            "wherever the robot goes",
            *whole,
            "clean the scanner's window",
        )
    ]


def _blocked(ranges: NDArray[np.float32], robot: Robot, whole: tuple[float, float]) -> list[Finding]:
    angles = np.degrees(robot.scanner.beam_angles)
    return [
        Finding(
            "serious",
            "scans",
            "blocked sector",
            f"beams {first} to {last}, {angles[first]:.0f} to "
            f"{angles[last]:.0f} degrees, always see {np.nanmedian(ranges[:, first : last + 1]):.2f} m: the robot "
            "itself",
            *whole,
            "move the scanner, or raise `nearest` in robot.toml above that range",
        )
        for first, last in _runs(own_beams(ranges, robot), shortest=2)
    ]


def _runs(flags: NDArray[np.bool_], shortest: int) -> list[tuple[int, int]]:
    """Return first and last index of every unbroken run of true flags."""
    return [(int(a), int(b)) for a, b in spans_of(np.flatnonzero(flags), apart=1.0, shortest=shortest - 1)]


def another_sweep(swept: EstimatedValue, scans: Scans) -> Finding:
    """Return the finding that a scanner sweeps otherwise than the robot file says."""
    return Finding(
        "serious",
        "scans",
        "another sweep than filed",
        f"it takes {swept.value:.3f} +- {swept.error:.3f} s from its first beam to its last, as scans bend in turns, "
        f"not {swept.filed:.3f} s",
        float(scans.t[0]),
        float(scans.t[-1]),
        f"set sweep_time = {swept.value:.4g} for the lidar in robot.toml",
    )
