"""vinecompass drive: rehearse a mission in the simulator."""

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
    robot_option,
    seed_option,
    settings_option,
    tell,
)  # fmt: skip

__all__ = ["drive", "run_drive"]


@click.command(short_help="Drive to a stop in the simulator, by the map.")
@click.argument("site", type=FILE)
@robot_option
@click.option("--map", "map_path", type=FILE, required=True, help="The map to drive by.")
@click.option("--to", "goal", required=True, help="Name of a stop, or x,y,heading_deg.")
@click.option("--from", "start", help="Where it truly starts, a stop or x,y,heading_deg; the site's start by default.")
@click.option("--at", help="Where it is told that it starts, x,y,heading_deg; the true start if not given.")
@click.option("--time-limit", type=click.FloatRange(1.0), default=300.0, show_default=True, help="Seconds.")
@click.option("-o", "--out", type=FILE, help="The run folder to write the mission's record to.")
@settings_option
@seed_option
@picture_option
@json_option
def drive(
    site: Path, robot: Path, map_path: Path, goal: str, start: str | None, at: str | None, time_limit: float,
    out: Path | None, settings: Path | None, seed: int, picture: Path | None, as_json: bool,
) -> int:  # fmt: skip
    """Close the loop in SITE at the scanner's rate: localize, replan, follow, until the robot arrives.

    The estimate steers and the truth judges. Exit status 1, and the reason, if the robot does not arrive.
    """
    outcome = run_drive(
        site, robot, map_path, goal, out, start=start, at=at, time_limit=time_limit, settings=settings, seed=seed,
        picture=picture,
    )  # fmt: skip
    return tell(outcome, as_json)


def run_drive(
    site_path: Path, robot_path: Path, map_path: Path, goal: str, out: Path | None, *, start: str | None = None,
    at: str | None = None, time_limit: float = 300.0, settings: Path | None = None, seed: int, picture: Path | None,
) -> Outcome:  # fmt: skip
    """Do what the command does."""
    import numpy as np

    from vinecompass.files import check_replaceable, read_text
    from vinecompass.rehearsal import rehearse
    from vinecompass.robot import read_robot
    from vinecompass.runs import RUN_MARKER, compare_tracks, write_run
    from vinecompass.simulation import read_site

    if out is not None:
        check_replaceable(out, marker=RUN_MARKER)
    site, robot, grid = read_site(site_path), read_robot(robot_path), load_map(map_path)
    goal_pose = find_pose(goal, option="--to", site=site)
    with progress_bar() as progress:
        mission = rehearse(
            site, robot, grid, goal_pose,
            start=None if start is None else find_pose(start, option="--from", site=site),
            initial_pose=None if at is None else find_pose(at, option="--at"),
            zones=site.zone, settings=load_settings(settings), seed=seed, time_limit=time_limit,
            site_toml=read_text(site_path), progress=progress,
        )  # fmt: skip
    truth = mission.run.truth
    assert truth is not None
    error = compare_tracks(mission.track, truth)
    speeding, braking, turning = mission.largest_accelerations()
    fastest = float(np.abs(mission.velocities[:, 0]).max())
    within = mission.limits_kept()
    files = {}
    if out is not None:
        files["run"] = str(write_run(mission.run, out))
    if picture is not None:
        from vinecompass.figures import draw_drive, save_figure

        files["picture"] = str(save_figure(draw_drive(grid, mission, goal_pose), picture))
    if mission.arrived:
        line = (
            f"arrived at {goal} after {truth.t[-1]:.0f} s and {truth.length:.1f} m, {mission.position_error:.3f} m and "
            f"{np.degrees(mission.heading_error):.1f} degrees off by the truth; "
        )
    else:
        line = f"did not arrive at {goal}: {mission.reason}; "
    line += f"{mission.contacts} contacts, {len(mission.plans)} plans, limits {'kept' if within else 'exceeded'}"
    return Outcome(
        "drive", line,
        quality={
            "arrived": mission.arrived, "reason": mission.reason, "duration_s": truth.t[-1],
            "plans": len(mission.plans),
        },
        truth={
            "position_error_m": mission.position_error, "heading_error_deg": np.degrees(mission.heading_error),
            "way_m": truth.length, "contacts": mission.contacts, "limits_kept": within,
            "top_speed_m_per_s": fastest, "top_acceleration_m_per_s2": speeding, "top_braking_m_per_s2": braking,
            "top_turn_acceleration_rad_per_s2": turning, "estimate_rmse_m": error.position_rmse,
        },
        files=files, done=mission.arrived,
    )  # fmt: skip
