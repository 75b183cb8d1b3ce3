"""vinecompass drive: rehearse a mission in the simulator."""

from __future__ import annotations

import math
from pathlib import Path
from typing import TYPE_CHECKING

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
)

if TYPE_CHECKING:
    from vinecompass.grids import Grid
    from vinecompass.navigation import Navigator, Round, Scene, StateEntry
    from vinecompass.rehearsal import Rehearsal
    from vinecompass.simulation import Site

__all__ = ["drive", "run_drive"]


@click.command(short_help="Drive a round in the simulator, by the map.")
@click.argument("site", type=FILE)
@robot_option
@click.option("--map", "map_path", type=FILE, required=True, help="The map to drive by.")
@click.option("--to", "goal", help="Name of a stop, or x,y,heading_deg.")
@click.option(
    "--round", "round_path", type=FILE, help="A round.toml: stops with tolerances, and what to do on failure."
)
@click.option("--from", "start", help="Where it truly starts, a stop or x,y,heading_deg; the site's start by default.")
@click.option(
    "--at", help="Where it is told that it starts, x,y,heading_deg; what the round says, or the truth, if not given."
)
@click.option(
    "--planner", type=click.Choice(["window", "band", "path"]), help="Local planner, in place of the settings'."
)
@click.option("--time-limit", type=click.FloatRange(1.0), default=300.0, show_default=True, help="Seconds.")
@click.option("--moment", type=click.FloatRange(0.0), help="Draw the local plan at this time, s, and all it weighed.")
@click.option("-o", "--out", type=FILE, help="The run folder to write the mission's record to.")
@settings_option
@seed_option
@picture_option
@json_option
def drive(
    site: Path,
    robot: Path,
    map_path: Path,
    goal: str | None,
    round_path: Path | None,
    start: str | None,
    at: str | None,
    planner: str | None,
    time_limit: float,
    moment: float | None,
    out: Path | None,
    settings: Path | None,
    seed: int,
    picture: Path | None,
    as_json: bool,
) -> int:
    """Close the loop in SITE at the scanner's rate: localize, plan, drive, recover, until the round is over.

    The estimate steers and the truth judges. Exit status 1, and the reason, if a stop is not reached.
    """
    outcome = run_drive(
        site,
        robot,
        map_path,
        goal,
        out,
        round_path=round_path,
        start=start,
        at=at,
        planner=planner,
        time_limit=time_limit,
        moment=moment,
        settings=settings,
        seed=seed,
        picture=picture,
    )
    return tell(outcome, as_json)


def run_drive(
    site_path: Path,
    robot_path: Path,
    map_path: Path,
    goal: str | None,
    out: Path | None,
    *,
    round_path: Path | None = None,
    start: str | None = None,
    at: str | None = None,
    planner: str | None = None,
    time_limit: float = 300.0,
    moment: float | None = None,
    settings: Path | None = None,
    seed: int,
    picture: Path | None,
) -> Outcome:
    """Do what the command does."""
    from vinecompass.errors import InputError
    from vinecompass.files import check_replaceable, read_text
    from vinecompass.rehearsal import rehearse_mission
    from vinecompass.robot import read_robot
    from vinecompass.runs import RUN_MARKER, compare_tracks, write_run
    from vinecompass.simulation import read_site

    if (goal is None) == (round_path is None):
        raise InputError("one of them is needed, and one only", key="--to, --round", expected="where to drive")
    if moment is not None and picture is None:
        raise InputError("has nothing to draw on", key="--moment", value=moment, expected="--picture FILE.png besides")
    if out is not None:
        check_replaceable(out, marker=RUN_MARKER)
    site, robot, grid = read_site(site_path), read_robot(robot_path), load_map(map_path)
    the_round = _round(goal, round_path, site)
    chosen = load_settings(settings)
    if planner is not None:
        chosen = chosen.model_copy(update={"following": chosen.following.model_copy(update={"planner": planner})})
    scenes: list[Scene] = []

    def look(navigator: Navigator) -> None:
        if moment is not None and not scenes and navigator.t >= moment and navigator.local_plan is not None:
            scenes.append(navigator.scene())

    with progress_bar() as progress:
        mission = rehearse_mission(
            site,
            robot,
            grid,
            the_round,
            start=None if start is None else find_pose(start, option="--from", site=site),
            initial_pose=None if at is None else find_pose(at, option="--at"),
            zones=site.zones,
            settings=chosen,
            seed=seed,
            time_limit=time_limit,
            site_toml=read_text(site_path),
            watch=look,
            progress=progress,
        )
    truth = mission.run.truth
    assert truth is not None
    error = compare_tracks(mission.track, truth)
    speeding, braking, turning = mission.largest_accelerations()
    within = mission.limits_kept()
    files = {}
    if out is not None:
        files["run"] = str(write_run(mission.run, out, records=mission.log.files()))
    if picture is not None:
        files["picture"] = _draw(picture, grid, mission, moment, scenes)
    line = _told(mission) + (
        f"; {mission.contacts} contacts, {len(mission.plans)} plans, {len(mission.log.interventions)} interventions of "
        f"safety, limits {'kept' if within else 'exceeded'}"
    )
    return Outcome(
        "drive",
        line,
        quality={
            "arrived": mission.arrived,
            "reason": mission.reason,
            "duration_s": truth.t[-1],
            "plans": len(mission.plans),
            "interventions": [str(each) for each in mission.log.interventions],
            "states": [
                {"t_s": each.t, "state": each.state, "stop": each.stop, "reason": each.reason}
                for each in _without_speeds(mission)
            ],
            "stops": [
                {"name": each.name, "reached": each.reached, "reason": each.reason, "t_s": each.t}
                for each in mission.arrivals
            ],
        },
        truth={
            "position_error_m": mission.position_error,
            "heading_error_deg": math.degrees(mission.heading_error),
            "way_m": truth.length,
            "contacts": mission.contacts,
            "limits_kept": within,
            "top_speed_m_per_s": float(abs(mission.velocities[:, 0]).max()),
            "top_acceleration_m_per_s2": speeding,
            "top_braking_m_per_s2": braking,
            "top_turn_acceleration_rad_per_s2": turning,
            "estimate_rmse_m": error.position_rmse,
        },
        files=files,
        done=mission.arrived,
    )


def _round(goal: str | None, path: Path | None, site: Site) -> Round:
    """Return the round of a file, or the one whose only stop is the goal."""
    from vinecompass.navigation import Round, read_round

    if path is not None:
        return read_round(path)
    assert goal is not None
    return Round.to_pose(find_pose(goal, option="--to", site=site), goal)


def _told(mission: Rehearsal) -> str:
    """Return a sentence: what was reached, how well, and what was not and why."""
    reached = [each for each in mission.arrivals if each.reached]
    truth = mission.run.truth
    assert truth is not None
    if mission.arrived:
        where = reached[0].name if len(reached) == 1 else f"all {len(reached)} stops"
        exact = (
            f"{mission.position_error:.3f} m and {math.degrees(mission.heading_error):.1f} degrees off by the truth"
            + (" at most" if len(reached) > 1 else "")
        )
        return f"arrived at {where} after {truth.t[-1]:.0f} s and {truth.length:.1f} m, {exact}"
    return f"reached {len(reached)} of {max(len(mission.arrivals), 1)} stops: {mission.reason}"


def _without_speeds(mission: Rehearsal) -> list[StateEntry]:
    """Return the states, without the changes of what limits the speed while it drives."""
    kept: list[StateEntry] = []
    for each in mission.log.states:
        if not kept or each.state != "driving" or (kept[-1].state, kept[-1].stop) != (each.state, each.stop):
            kept.append(each)
    return kept


def _draw(picture: Path, grid: Grid, mission: Rehearsal, moment: float | None, scenes: list[Scene]) -> str:
    """Draw the mission, or the local plan at a moment of it."""
    from vinecompass.errors import InputError
    from vinecompass.figures import draw_drive, draw_local_plan, save_figure

    if moment is None:
        return str(save_figure(draw_drive(grid, mission), picture))
    if not scenes:
        raise InputError(
            "is later than the last local plan",
            key="--moment",
            value=moment,
            expected=f"before {mission.track.t[-1]:.1f} s",
        )
    return str(save_figure(draw_local_plan(grid, mission.run.robot, scenes[0]), picture))
