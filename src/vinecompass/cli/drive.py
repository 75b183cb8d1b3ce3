"""vinecompass drive: rehearse a mission in the simulator."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.common import (
    FiniteRange,
    Outcome,
    counted,
    find_pose,
    json_option,
    load_map_record,
    load_settings,
    load_site,
    picture_option,
    progress_bar,
    read_round_or_stop,
    robot_option,
    seed_option,
    settings_option,
    tell,
)
from vinecompass.cli.outputs import FILE, OUT, Writing

if TYPE_CHECKING:
    from vinecompass.grids import Grid, Zone
    from vinecompass.navigation import Navigator, Scene, StateEntry
    from vinecompass.rehearsal import Rehearsal
    from vinecompass.settings import Settings

__all__ = ["DriveOptions", "drive", "run_drive"]


@click.command(cls=Writing, short_help="Drive a round in the simulator, by the map.")
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
@click.option("--planner", metavar="NAME", help="Local planner, in place of the settings': window, band or path.")
@click.option("--time-limit", type=FiniteRange(1.0, 1e5), default=300.0, show_default=True, help="Seconds.")
@click.option("--moment", type=FiniteRange(0.0), help="Draw the local plan at this time, s, and all it weighed.")
@click.option("-o", "--out", type=OUT, help="The run folder to write the mission's record to.")
@settings_option
@seed_option
@picture_option
@json_option
def drive(as_json: bool, **given: Any) -> int:
    """Close the loop in SITE at the scanner's rate: localize, plan, drive, recover, until the round is over.

    The estimate steers and the truth judges. Exit status 1, and the reason, if a stop is not reached.
    """
    return tell(run_drive(DriveOptions(**given)), as_json)


@dataclass(frozen=True)
class DriveOptions:
    """What the command is given, as its help tells."""

    site: Path
    robot: Path
    map_path: Path
    goal: str | None = None
    round_path: Path | None = None
    start: str | None = None
    at: str | None = None
    planner: str | None = None
    time_limit: float = 300.0
    moment: float | None = None
    out: Path | None = None
    settings: Path | None = None
    seed: int = 0
    picture: Path | None = None


def run_drive(given: DriveOptions) -> Outcome:
    """Do what the command does."""
    from vinecompass.files import read_text
    from vinecompass.rehearsal import MomentLog, rehearse_mission
    from vinecompass.robot import read_robot
    from vinecompass.runs import check_run_folder, write_run

    _check(given)
    if given.out is not None:
        check_run_folder(given.out)
    mapped, robot = load_map_record(given.map_path), read_robot(given.robot)
    site, grid = load_site(given.site, mapped.zones), mapped.grid
    the_round = read_round_or_stop(given.goal, given.round_path, site)
    scenes: list[Scene] = []
    moments = MomentLog()

    def look(navigator: Navigator) -> None:
        moments(navigator)
        late = given.moment is not None and navigator.t >= given.moment
        if late and not scenes and navigator.local_plan is not None:
            scenes.append(navigator.scene())

    with progress_bar() as progress:
        mission = rehearse_mission(
            site,
            robot,
            grid,
            the_round,
            start=None if given.start is None else find_pose(given.start, option="--from", site=site),
            initial_pose=None if given.at is None else find_pose(given.at, option="--at"),
            zones=site.zones,
            settings=_settings(given),
            seed=given.seed,
            time_limit=given.time_limit,
            site_toml=read_text(given.site),
            watch=look,
            progress=progress,
        )
    files = {}
    if given.out is not None:
        records = mission.log.files() | moments.files()
        files["run"] = str(write_run(mission.run, given.out, records=records))
    if given.picture is not None:
        files["picture"] = _draw(given.picture, grid, mission, site.zones, given.moment, scenes)
    limits = "kept" if mission.limits_kept() else "exceeded"
    line = (
        f"{_told(mission)}; {counted(mission.contacts, 'contact')}, {counted(len(mission.plans), 'plan')}, "
        f"{counted(len(mission.log.interventions), 'intervention')} of safety, limits {limits}"
    )
    noticed = [f"noticed at {each.t:.1f} s: {each.text}" for each in mission.log.notices]
    return Outcome(
        "drive",
        line,
        quality=_quality(mission),
        truth=_by_the_truth(mission),
        files=files,
        done=mission.arrived,
        details=noticed,
    )


def _check(given: DriveOptions) -> None:
    """Raise `InputError` where options do not go together, before any long work."""
    from vinecompass.errors import InputError

    if given.moment is not None and given.picture is None:
        raise InputError(
            "has nothing to draw on", key="--moment", value=given.moment, expected="--picture FILE.png besides"
        )


def _settings(given: DriveOptions) -> Settings:
    """Return the settings, with the local planner of the command line if it names one."""
    chosen = load_settings(given.settings)
    if given.planner is None:
        return chosen
    following = chosen.following.model_copy(update={"planner": given.planner})
    return chosen.model_copy(update={"following": following})


def _quality(mission: Rehearsal) -> dict[str, Any]:
    """Return what the mission tells of itself."""
    truth = mission.run.truth
    assert truth is not None
    return {
        "arrived": mission.arrived,
        "reason": mission.reason,
        "duration_s": truth.t[-1],
        "plans": len(mission.plans),
        "notices": [{"t_s": each.t, "text": each.text} for each in mission.log.notices],
        "interventions": [str(each) for each in mission.log.interventions],
        "states": [
            {"t_s": each.t, "state": each.state, "stop": each.stop, "reason": each.reason}
            for each in _without_speeds(mission)
        ],
        "stops": [
            {"name": each.name, "reached": each.reached, "reason": each.reason, "t_s": each.t}
            for each in mission.arrivals
        ],
    }


def _by_the_truth(mission: Rehearsal) -> dict[str, Any]:
    """Return what the truth says of the mission."""
    from vinecompass.runs import compare_tracks

    truth = mission.run.truth
    assert truth is not None
    speeding, braking, turning = mission.largest_accelerations()
    return {
        "position_error_m": mission.position_error,
        "heading_error_deg": math.degrees(mission.heading_error),
        "way_m": truth.length,
        "contacts": mission.contacts,
        "limits_kept": mission.limits_kept(),
        "top_speed_m_per_s": float(abs(mission.velocities[:, 0]).max()),
        "top_acceleration_m_per_s2": speeding,
        "top_braking_m_per_s2": braking,
        "top_turn_acceleration_rad_per_s2": turning,
        "estimate_rmse_m": compare_tracks(mission.track, truth).position_rmse,
    }


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


def _draw(
    picture: Path, grid: Grid, mission: Rehearsal, zones: list[Zone], moment: float | None, scenes: list[Scene]
) -> str:
    """Draw the mission, or the local plan at a moment of it."""
    from vinecompass.errors import InputError
    from vinecompass.figures import draw_drive, draw_local_plan, save_figure

    if moment is None:
        return str(save_figure(draw_drive(grid, mission, zones), picture))
    if not scenes:
        raise InputError(
            "is later than the last local plan",
            key="--moment",
            value=moment,
            expected=f"before {mission.track.t[-1]:.1f} s",
        )
    return str(save_figure(draw_local_plan(grid, mission.run.robot, scenes[0]), picture))
