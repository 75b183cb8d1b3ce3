"""Why what was fused is not to be trusted: sources at odds, and a robot file that says otherwise than the run."""

from __future__ import annotations

from vinecompass.errors import InputError
from vinecompass.fusion.calibrating.calibration import estimate_mount
from vinecompass.fusion.calibrating.file_errors import lidar_elsewhere, turned_lidar, wrong_gyro_scale, wrong_sizes
from vinecompass.fusion.odometry_fusion import SourceReport
from vinecompass.geometry import compose
from vinecompass.odometry import ScanMotion, track_of
from vinecompass.runs import Run, Track

__all__ = ["at_odds", "filed_otherwise"]

MOST_GATED, LARGEST_INNOVATION = 0.6, 5.0
"""Share of a source's readings left out, and mean square of its innovations, beyond which something is wrong."""


def at_odds(report: dict[str, SourceReport]) -> tuple[str, ...]:
    """Return a sentence about each source that contradicts the others again and again."""
    sentences = []
    for name, source in report.items():
        share = source.gated / max(source.taken + source.gated, 1)
        if share > MOST_GATED or source.normalised_innovation > LARGEST_INNOVATION:
            sentences.append(
                f"{name}: {100.0 * share:.0f} % of the readings contradict the rest, the others by "
                f"{source.normalised_innovation:.1f} times what is expected"
            )
    return tuple(sentences)


def filed_otherwise(run: Run, motions: list[ScanMotion]) -> tuple[str, ...]:
    """Return what the robot file says otherwise than the scans beside the wheels, a sentence each."""
    if not motions or (run.wheels is None and run.odometry is None):
        return ()
    body = track_of(motions)
    try:
        told = estimate_mount(run, track=Track(body.t, compose(body.poses, run.robot.scanner.mount_pose)))
    except InputError:  # It moves or turns too little to tell.
        return ()
    radius = wrong_sizes(told).get("wheel_radius")
    found = (
        ("the lidar", turned_lidar(told)),
        ("the lidar", lidar_elsewhere(told)),
        ("the gyro", wrong_gyro_scale(told)),
        ("the wheels, or else all ranges", f"of another size: wheel_radius is {radius}" if radius else ""),
    )
    return tuple(f"{name}: {clause}" for name, clause in found if clause)
