"""vinecompass plan: a global plan on the priced floor."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

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
    progress_bar,
    robot_option,
    settings_option,
    tell,
)
from vinecompass.cli.seen import scan_at_option, scan_option, seen_obstacles
from vinecompass.errors import InputError

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from vinecompass.costs import CostMap
    from vinecompass.planning import Motion, Row
    from vinecompass.robot import Robot
    from vinecompass.settings import PlanSettings

__all__ = ["plan", "run_plan"]

MOTIONS = ("straight", "dubins", "reeds-shepp")


@click.command(short_help="Plan from a pose to a pose or a stop.")
@click.argument("map", type=FILE)
@robot_option
@click.option("--from", "start", required=True, help="x,y,heading_deg, or with --site the name of a stop.")
@click.option("--to", "goal", required=True, help="x,y,heading_deg, or with --site the name of a stop.")
@click.option("--via", multiple=True, help="The same, for a pose on the way; as often as there are any.")
@click.option("--site", type=FILE, help="A site file, for its stops and zones.")
@click.option("--zones", type=FILE, help="A zones file; the zones of the site, or else of the map, if not given.")
@scan_option
@scan_at_option
@click.option(
    "--method",
    metavar="NAME",
    help="dijkstra, a-star (used if not given), any-angle, lattice (for a car), rrt, rrt-connect, rrt-star, "
    "informed-rrt-star or roadmap.",
)
@click.option("--motion", type=click.Choice(MOTIONS), help="Lines or curves; what the drive can do, if not given.")
@click.option("--radius", type=float, help="Least turning radius of curves, m; the car's own if not given.")
@click.option("--compare", help="Planners to compare, with commas between them, or all.")
@click.option("--repeat", type=int, default=1, show_default=True, help="How often each of them plans.")
@click.option("--longest-edge", type=float, multiple=True, help="Longest edge of trees, m; compared, if several.")
@click.option("--seed", type=int, multiple=True, help="Of planners that draw samples; compared, if several.")
@click.option("-o", "--out", type=FILE, help="The plan to write, a .csv or .geojson file.")
@settings_option
@picture_option
@json_option
def plan(
    map: Path,
    robot: Path,
    start: str,
    goal: str,
    via: tuple[str, ...],
    site: Path | None,
    zones: Path | None,
    scan: str | None,
    scan_at: str | None,
    method: str | None,
    motion: str | None,
    radius: float | None,
    compare: str | None,
    repeat: int,
    longest_edge: tuple[float, ...],
    seed: tuple[int, ...],
    out: Path | None,
    settings: Path | None,
    picture: Path | None,
    as_json: bool,
) -> int:
    """Plan a path for the whole body on the priced floor of MAP. Exit status 1, and the reason, if there is none."""
    outcome = run_plan(
        map,
        robot,
        start,
        goal,
        site,
        out,
        via=via,
        zones_path=zones,
        scan=scan,
        scan_at=scan_at,
        method=method,
        motion=motion,
        radius=radius,
        compare=compare,
        repeat=repeat,
        longest_edges=longest_edge,
        seeds=seed,
        settings=settings,
        picture=picture,
    )
    return tell(outcome, as_json)


def run_plan(
    map_path: Path,
    robot_path: Path,
    start: str,
    goal: str,
    site_path: Path | None,
    out: Path | None,
    *,
    via: tuple[str, ...] = (),
    zones_path: Path | None = None,
    scan: str | None = None,
    scan_at: str | None = None,
    method: str | None = None,
    motion: str | None = None,
    radius: float | None = None,
    compare: str | None = None,
    repeat: int = 1,
    longest_edges: tuple[float, ...] = (),
    seeds: tuple[int, ...] = (),
    settings: Path | None = None,
    picture: Path | None,
) -> Outcome:
    """Do what the command does."""
    from vinecompass.costs import price_floor
    from vinecompass.robot import read_robot
    from vinecompass.simulation import read_site

    grid, robot = load_map(map_path), read_robot(robot_path)
    site = None if site_path is None else read_site(site_path)
    names = [("--from", start), *(("--via", name) for name in via), ("--to", goal)]
    poses = [find_pose(name, option=option, site=site) for option, name in names]
    chosen = load_settings(settings)
    obstacles = None if scan is None else seen_obstacles(grid, robot, scan, scan_at, chosen.costs)
    costmap = price_floor(
        grid, robot, zones=load_zones(zones_path or site_path or map_path), obstacles=obstacles, settings=chosen.costs
    )
    steering = _motion(robot, motion, radius)
    edges = longest_edges or (chosen.planning.longest_edge,)
    if compare is None:
        if len(edges) > 1 or len(seeds) > 1 or repeat != 1:
            raise InputError(
                "compares planners",
                key="--repeat, or --longest-edge or --seed more than once",
                expected="--compare METHOD,… or --compare all, too",
            )
        one = chosen.planning.model_copy(update={"longest_edge": edges[0]})
        seed = seeds[0] if seeds else 0
        outcome = _planned(costmap, robot, poses, steering, one, method, seed, goal, out, picture)
        outcome.hint = f"vinecompass drive SITE --robot {robot_path} --map {map_path} --to {goal!r} -o mission"
        return outcome
    if via or out is not None or method is not None:
        raise InputError(
            "compares one leg, and writes no plan",
            key="--compare",
            value=compare,
            expected="no --via, --method or --out",
        )
    return _compared(costmap, robot, poses, steering, chosen.planning, compare, repeat, longest_edges, seeds, picture)


def _motion(robot: Robot, name: str | None, radius: float | None) -> Motion | None:
    from vinecompass.planning import DubinsMotion, ReedsSheppMotion, StraightMotion

    if name is None or name == "straight":
        if radius is not None:
            raise InputError(
                "belongs to curves", key="--radius", value=radius, expected="--motion dubins or reeds-shepp"
            )
        return None if name is None else StraightMotion()
    least = robot.drive.turning_radius if radius is None else radius
    if least is None:
        raise InputError("is missing", key="--radius", expected="metres, since the robot turns on the spot")
    return (DubinsMotion if name == "dubins" else ReedsSheppMotion)(least)


def _planned(
    costmap: CostMap,
    robot: Robot,
    poses: list[NDArray[np.float64]],
    motion: Motion | None,
    settings: PlanSettings,
    method: str | None,
    seed: int,
    goal: str,
    out: Path | None,
    picture: Path | None,
) -> Outcome:
    import numpy as np

    from vinecompass.planning import plan_round, write_plan

    legs = plan_round(costmap, robot, poses, method=method, motion=motion, settings=settings, seed=seed)
    last = legs[-1]
    files = {}
    quality: dict[str, Any] = {
        "status": last.status,
        "reason": last.reason,
        "method": last.method,
        "legs": len(poses) - 1,
        "length_m": sum(leg.length for leg in legs),
        "cost_m": sum(leg.cost for leg in legs),
        "least_clearance_m": min(leg.least_clearance for leg in legs),
        "reversals": sum(leg.reversals for leg in legs),
        "body_clear": last.found and all(leg.least_clearance > 0.0 for leg in legs),
        "poses": sum(len(leg.poses) for leg in legs),
        "expanded": sum(leg.expanded for leg in legs),
        "iterations": sum(leg.iterations for leg in legs),
        "duration_s": np.float64(sum(leg.duration for leg in legs)),
    }
    if last.found:
        line = (
            f"{quality['length_m']:.2f} m to {goal}, costing {quality['cost_m']:.2f} m; the body keeps "
            f"{quality['least_clearance_m']:.2f} m off everything closed"
        )
        if out is not None:
            files["plan"] = str(write_plan(legs, out))
    else:
        leg = f"leg {len(legs)} of {len(poses) - 1}: " if len(poses) > 2 else ""
        line = f"{leg}{last.status}: {last.reason}"
        why = last.why_not
        if why is not None:
            quality["why_not"] = {
                "cause": why.cause,
                "remedy": why.remedy,
                "x_m": why.place[0] if why.place else None,
                "y_m": why.place[1] if why.place else None,
                "width_m": why.width,
                "needed_m": why.needed,
            }
    if picture is not None:
        from vinecompass.figures import draw_plan, save_figure

        files["picture"] = str(save_figure(draw_plan(costmap, robot, legs, poses), picture))
    return Outcome("plan", line, quality=quality, files=files, done=last.found)


def _compared(
    costmap: CostMap,
    robot: Robot,
    poses: list[NDArray[np.float64]],
    motion: Motion | None,
    settings: PlanSettings,
    names: str,
    repeat: int,
    edges: tuple[float, ...],
    seeds: tuple[int, ...],
    picture: Path | None,
) -> Outcome:
    from vinecompass.planning import Problem, compare_planners, entries_of

    problem = Problem(costmap, robot, poses[0], poses[1], motion)
    entries = entries_of(problem, names, settings, edges, seeds)
    with progress_bar() as progress:
        found = compare_planners(problem, entries, repeat=repeat, progress=progress)
    files = {}
    if picture is not None:
        from vinecompass.figures import draw_plan_comparison, save_figure

        files["picture"] = str(save_figure(draw_plan_comparison(found), picture))
    best = found.cheapest
    line = (
        f"no planner of {len(found.rows)} found a way"
        if best is None
        else f"{best.entry.label} is cheapest of {len(found.rows)}: {best.median('cost'):.2f} m in "
        f"{1000.0 * best.time:.0f} ms"
    )
    head = f"{'planner':<36} found   time, ms   spread   cost, m  length, m  clearance, m    nodes"
    return Outcome(
        "plan",
        line,
        quality={"planners": [_row(row) for row in found.rows]},
        files=files,
        done=best is not None,
        details=[head, *(_row_line(row) for row in found.rows)],
        hint="vinecompass plan MAP … --method METHOD -o plan.csv",
    )


def _row(row: Row) -> dict[str, Any]:
    return {
        "planner": row.entry.label,
        "method": row.entry.method,
        "success": row.success,
        "time_s": row.time,
        "time_spread_s": row.time_spread,
        "cost_m": row.median("cost"),
        "length_m": row.median("length"),
        "least_clearance_m": row.median("least_clearance"),
        "expanded": row.median("expanded"),
        "reversals": row.median("reversals"),
    }


def _row_line(row: Row) -> str:
    start = (
        f"{row.entry.label:<36} {100.0 * row.success:4.0f} % {1000.0 * row.time:10.1f} {1000.0 * row.time_spread:8.1f}"
    )
    if row.success == 0.0:
        return f"{start}  {row.plans[0].status}"
    return (
        f"{start} {row.median('cost'):9.2f} {row.median('length'):10.2f} {row.median('least_clearance'):13.2f} "
        f"{row.median('expanded'):8.0f}"
    )
