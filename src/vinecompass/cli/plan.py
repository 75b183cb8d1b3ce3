"""vinecompass plan: a global plan on the priced floor."""

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
    load_zones,
    picture_option,
    robot_option,
    settings_option,
    tell,
)  # fmt: skip

__all__ = ["plan", "run_plan"]


@click.command(short_help="Plan from a pose to a pose or a stop.")
@click.argument("map", type=FILE)
@robot_option
@click.option("--from", "start", required=True, help="x,y,heading_deg, or with --site the name of a stop.")
@click.option("--to", "goal", required=True, help="x,y,heading_deg, or with --site the name of a stop.")
@click.option("--site", type=FILE, help="A site file, for its stops and zones.")
@click.option("--zones", type=FILE, help="A zones file; the zones of the site, or else of the map, if not given.")
@click.option("-o", "--out", type=FILE, help="The plan to write, a .csv or .geojson file.")
@settings_option
@picture_option
@json_option
def plan(
    map: Path, robot: Path, start: str, goal: str, site: Path | None, zones: Path | None, out: Path | None,
    settings: Path | None, picture: Path | None, as_json: bool,
) -> int:  # fmt: skip
    """Plan a path for the whole body on the priced floor of MAP. Exit status 1, and the reason, if there is none."""
    outcome = run_plan(
        map, robot, start, goal, site, out, zones_path=zones, settings=settings, picture=picture
    )  # fmt: skip
    return tell(outcome, as_json)


def run_plan(
    map_path: Path, robot_path: Path, start: str, goal: str, site_path: Path | None, out: Path | None, *,
    zones_path: Path | None = None, settings: Path | None = None, picture: Path | None,
) -> Outcome:  # fmt: skip
    """Do what the command does."""
    import numpy as np

    from vinecompass.costs import price_floor
    from vinecompass.planning import plan_path, write_plan
    from vinecompass.robot import read_robot
    from vinecompass.simulation import read_site

    grid, robot = load_map(map_path), read_robot(robot_path)
    site = None if site_path is None else read_site(site_path)
    start_pose = find_pose(start, option="--from", site=site)
    goal_pose = find_pose(goal, option="--to", site=site)
    chosen = load_settings(settings)
    costmap = price_floor(grid, robot, zones=load_zones(zones_path or site_path or map_path), settings=chosen.costs)
    found = plan_path(costmap, robot, start_pose, goal_pose, settings=chosen.planning)
    files = {}
    if found.found:
        line = (
            f"{found.length:.2f} m to {goal}, costing {found.cost:.2f} m; the body keeps {found.least_clearance:.2f} m "
            f"off everything closed"
        )
        if out is not None:
            files["plan"] = str(write_plan(found, out))
    else:
        line = f"{found.status}: {found.reason}"
    if picture is not None:
        from vinecompass.figures import draw_plan, save_figure

        files["picture"] = str(save_figure(draw_plan(costmap, robot, found, start_pose, goal_pose), picture))
    return Outcome(
        "plan", line,
        quality={
            "status": found.status, "reason": found.reason, "length_m": found.length, "cost_m": found.cost,
            "least_clearance_m": found.least_clearance, "body_clear": found.found and found.least_clearance > 0.0,
            "poses": len(found.poses), "cells_expanded": found.expanded, "duration_s": np.float64(found.duration),
        },
        files=files, done=found.found,
        hint=f"vinecompass drive SITE --robot {robot_path} --map {map_path} --to {goal!r} -o mission",
    )  # fmt: skip
