"""vinecompass price: a costmap from a map."""

from __future__ import annotations

from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.common import (
    FILE,
    Outcome,
    find_point,
    json_option,
    load_map,
    load_settings,
    load_zones,
    picture_option,
    robot_option,
    settings_option,
    tell,
)
from vinecompass.cli.seen import scan_at_option, scan_option, seen_obstacles
from vinecompass.errors import InputError

if TYPE_CHECKING:
    from matplotlib.figure import Figure

    from vinecompass.costs import CostMap, NarrowPlace
    from vinecompass.robot import Robot

__all__ = ["price", "run_price"]


@click.command(short_help="Price the floor of a map for a robot.")
@click.argument("map", type=FILE)
@robot_option
@click.option("--zones", type=FILE, help="A zones file, or a site file with zones; the map's own if not given.")
@scan_option
@scan_at_option
@click.option("-o", "--out", type=FILE, help="The costmap to write, NAME.npz.")
@click.option("--narrow", is_flag=True, help="List the doorways and aisles that the robot passes only just, or not.")
@click.option("--explain", metavar="X,Y", help="Tell what each layer charges there, and why.")
@click.option("--layers", is_flag=True, help="Draw each layer apart, and what closes each cell.")
@click.option("--along", metavar="X,Y X,Y", nargs=2, help="Draw the prices along a line between two points.")
@click.option("--against", type=FILE, help="Draw the prices with this other settings file beside them.")
@settings_option
@picture_option
@json_option
def price(
    map: Path,
    robot: Path,
    zones: Path | None,
    scan: str | None,
    scan_at: str | None,
    out: Path | None,
    narrow: bool,
    explain: str | None,
    layers: bool,
    along: tuple[str, str] | None,
    against: Path | None,
    settings: Path | None,
    picture: Path | None,
    as_json: bool,
) -> int:
    """Give each cell of MAP a price, in metres-equivalent per metre: 1 is clear floor, inf is closed."""
    for option, given in (("--layers", layers), ("--along", along), ("--against", against)):
        if given and picture is None:
            raise InputError("draws", key=option, expected="--picture FILE.png, too")
    return tell(
        run_price(
            map,
            robot,
            zones,
            out,
            scan=scan,
            scan_at=scan_at,
            narrow=narrow,
            explain=explain,
            layers=layers,
            along=along,
            against=against,
            settings=settings,
            picture=picture,
        ),
        as_json,
    )


def run_price(
    map_path: Path,
    robot_path: Path,
    zones: Path | None,
    out: Path | None,
    *,
    scan: str | None = None,
    scan_at: str | None = None,
    narrow: bool = False,
    explain: str | None = None,
    layers: bool = False,
    along: tuple[str, str] | None = None,
    against: Path | None = None,
    settings: Path | None = None,
    picture: Path | None,
) -> Outcome:
    """Do what the command does."""
    import numpy as np

    from vinecompass.costs import find_narrow_places, price_floor, write_costmap
    from vinecompass.robot import read_robot

    grid, robot = load_map(map_path), read_robot(robot_path)
    chosen = load_settings(settings).costs
    zone_list = load_zones(zones or map_path)
    obstacles = None if scan is None else seen_obstacles(grid, robot, scan, scan_at, chosen)
    costmap = price_floor(grid, robot, zones=zone_list, obstacles=obstacles, settings=chosen)
    prices, area = costmap.prices[grid.free], grid.cell_size**2
    finite = prices[np.isfinite(prices)]
    quality: dict[str, Any] = {
        "free_m2": len(prices) * area,
        "open_m2": len(finite) * area,
        "clear_m2": np.sum(finite == 1.0) * area,
        "dearest_m_per_m": finite.max(initial=1.0),
    }
    details, places = [], []
    if obstacles is not None:
        quality["obstacle_cells"] = int(obstacles.mask.sum())
        details.append(f"{scan} sees {quality['obstacle_cells']} cells of obstacles that the map does not know")
    if explain is not None:
        x, y = find_point(explain, option="--explain")
        charges = costmap.explain(x, y)
        if not charges:
            raise InputError("lies off the map", key="--explain", value=explain, expected="x,y on the map")
        quality["charges"] = {
            name: {"factor": charge.factor, "closed": bool(np.isinf(charge.factor)), "why": charge.why}
            for name, charge in charges.items()
        }
        details += [f"at {x:.2f}, {y:.2f} {name:<10} {charge}" for name, charge in charges.items()]
    if narrow:
        places = find_narrow_places(costmap, robot)
        quality["narrow_places"] = [_told(place) for place in places]
        details += [str(place) for place in places] or ["no narrow place"]
    files = {}
    if out is not None:
        files["costmap"] = str(write_costmap(costmap, out))
    if picture is not None:
        from vinecompass.figures import draw_cost_change, draw_costs, draw_layers, draw_profile, save_figure

        figure: Figure
        if against is not None:
            other = price_floor(
                grid, robot, zones=zone_list, obstacles=obstacles, settings=load_settings(against).costs
            )
            figure = draw_cost_change(costmap, other, "as set", against.name)
        elif along is not None:
            figure = draw_profile(costmap, robot, *(find_point(text, option="--along") for text in along))
        elif layers:
            figure = draw_layers(costmap)
        else:
            figure = draw_costs(costmap, robot, places)
        files["picture"] = str(save_figure(figure, picture))
    return Outcome(
        "price",
        _line(costmap, robot, quality, places),
        quality=quality,
        files=files,
        details=details,
        hint=f"vinecompass plan {map_path} --robot {robot_path} --from x,y,heading_deg --to x,y,heading_deg",
    )


def _line(costmap: CostMap, robot: Robot, quality: dict[str, Any], places: list[NarrowPlace]) -> str:
    line = (
        f"of {quality['free_m2']:.0f} m2 free floor {quality['open_m2']:.0f} m2 are open to {robot.name}, "
        f"{quality['clear_m2']:.0f} m2 of them clear; the dearest costs {quality['dearest_m_per_m']:.1f} m per m"
    )
    if places:
        shut = sum(not place.passes for place in places)
        line += f"; {len(places)} narrow places, {shut} of them closed to it"
    return line


def _told(place: NarrowPlace) -> dict[str, Any]:
    return {
        "x_m": place.x,
        "y_m": place.y,
        "width_m": place.width,
        "needed_m": place.needed,
        "length_m": place.length,
        "passes": place.passes,
        "price_m_per_m": place.price,
        "closed_by": list(place.closed_by),
        "decides": place.decides,
    }
