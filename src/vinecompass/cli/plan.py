"""vinecompass plan: a global plan on the priced floor."""

from __future__ import annotations

from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.common import (
    FiniteRange,
    Outcome,
    find_pose,
    json_option,
    load_map_record,
    load_settings,
    load_site,
    load_zones,
    picture_option,
    progress_bar,
    robot_option,
    settings_option,
    tell,
)
from vinecompass.cli.outputs import FILE, OUT, Writing
from vinecompass.cli.seen import scan_at_option, scan_option, seen_obstacles
from vinecompass.errors import InputError

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from vinecompass.costs import CostMap
    from vinecompass.planning import Motion, Plan, Problem, Row
    from vinecompass.robot import Robot
    from vinecompass.settings import PlanSettings

__all__ = ["PlanOptions", "plan", "run_plan"]

MOTIONS = ("straight", "dubins", "reeds-shepp")


@click.command(cls=Writing, short_help="Plan from a pose to a pose or a stop.")
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
@click.option(
    "--radius", type=FiniteRange(0.01, 1000.0), help="Least turning radius of curves, m; the car's own if not given."
)
@click.option("--compare", help="Planners to compare, with commas between them, or all.")
@click.option(
    "--repeat", type=click.IntRange(1, 1000), default=1, show_default=True, help="How often each of them plans."
)
@click.option(
    "--longest-edge",
    type=FiniteRange(0.01, 1000.0),
    multiple=True,
    help="Longest edge of trees, m; compared, if several.",
)
@click.option(
    "--seed", type=click.IntRange(0), multiple=True, help="Of planners that draw samples; compared, if several."
)
@click.option("-o", "--out", type=OUT, help="The plan to write, a .csv or .geojson file.")
@settings_option
@picture_option
@json_option
def plan(as_json: bool, **given: Any) -> int:
    """Plan a path for the whole body on the priced floor of MAP. Exit status 1, and the reason, if there is none."""
    return tell(run_plan(PlanOptions(**given)), as_json)


@dataclass(frozen=True)
class PlanOptions:
    """What the command is given, as its help tells."""

    map: Path
    robot: Path
    start: str
    goal: str
    via: tuple[str, ...] = ()
    site: Path | None = None
    zones: Path | None = None
    scan: str | None = None
    scan_at: str | None = None
    method: str | None = None
    motion: str | None = None
    radius: float | None = None
    compare: str | None = None
    repeat: int = 1
    longest_edge: tuple[float, ...] = ()
    seed: tuple[int, ...] = ()
    out: Path | None = None
    settings: Path | None = None
    picture: Path | None = None


def run_plan(given: PlanOptions) -> Outcome:
    """Do what the command does."""
    from vinecompass.costs import price_floor
    from vinecompass.robot import read_robot

    mapped, robot = load_map_record(given.map), read_robot(given.robot)
    grid = mapped.grid
    site = None if given.site is None else load_site(given.site, mapped.zones)
    names = [("--from", given.start), *(("--via", name) for name in given.via), ("--to", given.goal)]
    poses = [find_pose(name, option=option, site=site) for option, name in names]
    chosen = load_settings(given.settings)
    obstacles = seen_obstacles(grid, robot, given.scan, given.scan_at, chosen.costs)
    in_force = mapped.zones if site is None else site.zones
    zones = in_force if given.zones is None else load_zones(given.zones)
    costmap = price_floor(grid, robot, zones=zones, obstacles=obstacles, settings=chosen.costs)
    motion = _motion(robot, given.motion, given.radius)
    if given.compare is not None:
        from vinecompass.planning import Problem

        return _compared(given, given.compare, Problem(costmap, robot, poses[0], poses[1], motion), chosen.planning)
    return _planned(given, costmap, robot, poses, motion, chosen.planning)


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
    given: PlanOptions,
    costmap: CostMap,
    robot: Robot,
    poses: list[NDArray[np.float64]],
    motion: Motion | None,
    settings: PlanSettings,
) -> Outcome:
    """Plan from pose to pose, and tell what came of it."""
    from vinecompass.planning import plan_round, write_plan

    edges = given.longest_edge or (settings.longest_edge,)
    if len(edges) > 1 or len(given.seed) > 1 or given.repeat != 1:
        raise InputError(
            "compares planners",
            key="--repeat, or --longest-edge or --seed more than once",
            expected="--compare METHOD,… or --compare all, too",
        )
    legs = plan_round(
        costmap,
        robot,
        poses,
        method=given.method,
        motion=motion,
        settings=settings.model_copy(update={"longest_edge": edges[0]}),
        seed=given.seed[0] if given.seed else 0,
    )
    last, quality, files = legs[-1], _quality(legs, len(poses) - 1), {}
    if last.found:
        line = (
            f"{quality['length_m']:.2f} m to {given.goal}, costing {quality['cost_m']:.2f} m; the body keeps "
            f"{quality['least_clearance_m']:.2f} m off everything closed"
        )
        line += "".join(f"; {told}" for told in dict.fromkeys(leg.reason for leg in legs) if told)
        if given.out is not None:
            files["plan"] = str(write_plan(legs, given.out))
    else:
        leg = f"leg {len(legs)} of {len(poses) - 1}: " if len(poses) > 2 else ""
        line = f"{leg}{last.status}: {last.reason}"
    if given.picture is not None:
        from vinecompass.figures import draw_plan, save_figure

        files["picture"] = str(save_figure(draw_plan(costmap, robot, legs, poses), given.picture))
    hint = f"vinecompass drive SITE --robot {given.robot} --map {given.map} --to {given.goal!r} -o mission"
    hint = hint if last.found else ""
    return Outcome("plan", line, quality=quality, files=files, done=last.found, hint=hint)


def _quality(legs: list[Plan], wanted: int) -> dict[str, Any]:
    """Return the legs of a plan in numbers, and why the last one has no way."""
    last = legs[-1]
    quality: dict[str, Any] = {
        "status": last.status,
        "reason": last.reason,
        "method": last.method,
        "legs": wanted,
        "length_m": sum(leg.length for leg in legs),
        "cost_m": sum(leg.cost for leg in legs),
        "least_clearance_m": min(leg.least_clearance for leg in legs),
        "reversals": sum(leg.reversals for leg in legs),
        "body_clear": last.found and all(leg.least_clearance > 0.0 for leg in legs),
        "poses": sum(len(leg.poses) for leg in legs),
        "expanded": sum(leg.expanded for leg in legs),
        "iterations": sum(leg.iterations for leg in legs),
        "duration_s": float(sum(leg.duration for leg in legs)),
    }
    why = last.why_not
    if not last.found and why is not None:
        quality["why_not"] = {
            "cause": why.cause,
            "remedy": why.remedy,
            "x_m": why.place[0] if why.place else None,
            "y_m": why.place[1] if why.place else None,
            "width_m": why.width,
            "needed_m": why.needed,
        }
    return quality


def _compared(given: PlanOptions, names: str, problem: Problem, settings: PlanSettings) -> Outcome:
    """Plan one leg with several planners, and tell how they did."""
    from vinecompass.planning import compare_planners, entries_of

    if given.via or given.out is not None or given.method is not None:
        raise InputError(
            "compares one leg, and writes no plan",
            key="--compare",
            value=names,
            expected="no --via, --method or --out",
        )
    entries = entries_of(problem, names, settings, given.longest_edge, given.seed)
    with progress_bar() as progress:
        found = compare_planners(problem, entries, repeat=given.repeat, progress=progress)
    files = {}
    if given.picture is not None:
        from vinecompass.figures import draw_plan_comparison, save_figure

        files["picture"] = str(save_figure(draw_plan_comparison(found), given.picture))
    best = found.cheapest
    line = f"no planner of {len(found.rows)} found a way"
    if best is not None:
        line = (
            f"{best.entry.label} is cheapest of {len(found.rows)}: {best.median('cost'):.2f} m in "
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
