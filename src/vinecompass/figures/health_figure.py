"""The health of a run on one page: what the scanner sees about the robot, the rates, and the spans found."""

from __future__ import annotations

import textwrap

import numpy as np
from matplotlib.axes import Axes
from matplotlib.figure import FigureBase

from vinecompass.errors import InputError
from vinecompass.figures.canvas import (
    BURGUNDY,
    CHARCOAL,
    GREY,
    PAPER,
    RUST,
    SLATE,
    STRAW,
    draw_robot,
    draw_scale_bar,
    new_sheet,
)
from vinecompass.health import Finding, Health
from vinecompass.odometry import deskewed_hits
from vinecompass.runs import Run

__all__ = ["draw_health"]

SEVERITY_COLOURS = {"fatal": BURGUNDY, "serious": RUST, "slight": STRAW}
HATCHES = {"fatal": "xx", "serious": "//", "slight": ""}
MOST_TOLD = 9
"""Findings that the page has room to tell; all are in the command's output."""


def draw_health(health: Health, run: Run, *, ax: Axes | None = None) -> FigureBase:
    """Draw a health report of a run (as recorded)."""
    worst = health.findings[0] if health.findings else None
    told = "nothing found" if worst is None else f"{worst.stream}: {worst.fault}"
    more = f", and {len(health.findings) - 1} more" if len(health.findings) > 1 else ""
    figure, axes = new_sheet(f"The run is {health.verdict}: {told}{more}", ax=ax)
    axes.set_position((0.05, 0.42, 0.43, 0.475))
    _draw_scan(axes, run, health)
    _tell(figure, health)
    timeline = figure.add_axes((0.10, 0.075, 0.86, 0.25))
    _draw_timeline(timeline, health, run)
    return figure


def _draw_scan(axes: Axes, run: Run, health: Health) -> None:
    """Draw three scans about the robot: how the mount and the limits look to the eye."""
    lidar = run.robot.scanner
    axes.set_xlabel("ahead, m")
    axes.set_ylabel("to the left, m")
    if run.scans is not None:
        chosen = min(int(0.35 * len(run.scans)), len(run.scans) - 1)
        ranges = run.scans.ranges[chosen]
        points = deskewed_hits(ranges, lidar, np.zeros((lidar.beams, 3)))
        axes.scatter(points[:, 0], points[:, 1], s=5.0, color=SLATE, linewidths=0.0, zorder=5)
        returned = np.mean(np.isfinite(run.scans.ranges))
        axes.set_title(
            f"the scan at {run.scans.t[chosen]:.1f} s about the robot; {100.0 * returned:.0f} % of all beams return",
            fontsize=10,
            loc="left",
        )
    draw_robot(axes, run.robot, np.zeros(3))
    x, y, heading = lidar.mount_pose
    for angle in (lidar.beam_angles[0], lidar.beam_angles[-1]):
        axes.plot(
            [x, x + 1.5 * np.cos(heading + angle)], [y, y + 1.5 * np.sin(heading + angle)], color=GREY, linewidth=1.0
        )
    axes.annotate(
        f"{lidar.name}, as filed",
        (x, y),
        (x + 1.2 * np.cos(heading), y + 1.2 * np.sin(heading)),
        fontsize=9,
        color=CHARCOAL,
        arrowprops={"arrowstyle": "<-", "color": CHARCOAL},
        va="center",
        zorder=9,
    )
    axes.set_aspect("equal", adjustable="datalim")
    axes.autoscale_view()
    draw_scale_bar(axes)


def _tell(figure: FigureBase, health: Health) -> None:
    """Write the findings beside the scan, the worst first, numbered as on the time line."""
    y, left = 0.905, 0.53
    if not health.findings:
        figure.text(left, y, "Nothing found.", fontsize=10, color=CHARCOAL)
    for number, finding in enumerate(health.findings[:MOST_TOLD], start=1):
        figure.text(
            left,
            y,
            f"{number}",
            fontsize=10,
            fontweight="bold",
            color=CHARCOAL,
            va="center",
            ha="center",
            bbox={
                "boxstyle": "circle,pad=0.25",
                "facecolor": PAPER,
                "edgecolor": SEVERITY_COLOURS[finding.severity],
                "linewidth": 2.0,
            },
        )
        head = f"{finding.stream}: {finding.fault}, {finding.begin:.1f} to {finding.end:.1f} s ({finding.severity})"
        lines = textwrap.wrap(finding.evidence, 88)[:2]
        figure.text(left + 0.018, y, head, fontsize=9.5, fontweight="bold", color=CHARCOAL, va="center")
        for line in lines:
            y -= 0.0215
            figure.text(left + 0.018, y, line, fontsize=8.5, color=CHARCOAL, va="center")
        y -= 0.033
        if y < 0.44:
            break
    if len(health.findings) > MOST_TOLD:
        figure.text(left, max(y, 0.425), f"… and {len(health.findings) - MOST_TOLD} more", fontsize=9, color=CHARCOAL)
    for text in health.untold[:2]:
        y -= 0.03
        figure.text(left, max(y, 0.4), "\n".join(textwrap.wrap(f"not told: {text}", 92)), fontsize=8.5, color=CHARCOAL)


def _draw_timeline(axes: Axes, health: Health, run: Run) -> None:
    """Draw each stream's rate over time as a line in its row, and the spans found behind it."""
    names = [name for name in health.streams if name not in ("truth", "commands")]
    if not names:
        raise InputError("has no streams to draw", file=run.folder, expected="at least one table")
    streams = run.streams()
    for row, name in enumerate(reversed(names)):
        t, health_of = streams[name].t, health.streams[name]
        steps = np.diff(t)
        good = np.isfinite(steps) & (steps > 0.0)
        if np.any(good):
            rate = np.minimum(1.0 / (steps[good] * health_of.rate), 2.0)
            axes.plot(
                t[1:][good], row - 0.35 + 0.35 * rate, color=SLATE, linewidth=0.8, zorder=4, drawstyle="steps-pre"
            )
        for number, finding in enumerate(health.findings, start=1):
            if finding.stream == name:
                _draw_span(axes, row, number, finding)
    axes.set_yticks(
        range(len(names)), [f"{name}\n{health.streams[name].rate:.0f} Hz" for name in reversed(names)], fontsize=9
    )
    axes.set_ylim(-0.6, len(names) - 0.4)
    begin = min(health.streams[name].begin for name in names)
    end = max(health.streams[name].end for name in names)
    axes.set_xlim(begin - 0.01 * (end - begin) - 0.1, end + 0.01 * (end - begin) + 0.1)
    axes.set_xlabel("t, s", fontsize=9)
    axes.set_title(
        "rate of each stream (the line at mid-height: on its beat), and the spans found", fontsize=10, loc="left"
    )
    axes.set_facecolor(PAPER)
    for side in ("top", "right", "left"):
        axes.spines[side].set_visible(False)


def _draw_span(axes: Axes, row: int, number: int, finding: Finding) -> None:
    colour = SEVERITY_COLOURS[finding.severity]
    axes.barh(
        row,
        max(finding.end - finding.begin, 0.05),
        left=finding.begin,
        height=0.8,
        color=colour,
        alpha=0.35,
        edgecolor=colour,
        hatch=HATCHES[finding.severity],
        zorder=2,
    )
    axes.text(
        (finding.begin + finding.end) / 2.0,
        row + 0.28,
        str(number),
        fontsize=8.5,
        fontweight="bold",
        ha="center",
        va="center",
        zorder=6,
        bbox={"boxstyle": "circle,pad=0.2", "facecolor": PAPER, "edgecolor": colour},
    )
