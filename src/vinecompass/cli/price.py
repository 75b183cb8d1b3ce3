"""vinecompass price: a costmap from a map."""

from __future__ import annotations

import math
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.common import (
    Outcome,
    counted,
    find_point,
    json_option,
    load_map_record,
    load_settings,
    load_zones,
    picture_option,
    robot_option,
    settings_option,
    tell,
)
from vinecompass.cli.outputs import FILE, OUT, Writing
from vinecompass.cli.seen import scan_at_option, scan_option, seen_obstacles
from vinecompass.errors import InputError

if TYPE_CHECKING:
    from matplotlib.figure import FigureBase

    from vinecompass.costs import CostMap
    from vinecompass.planning import NarrowPlace
    from vinecompass.robot import Robot

__all__ = ["PriceOptions", "price", "run_price"]


@click.command(cls=Writing, short_help="Price the floor of a map for a robot.")
@click.argument("map", type=FILE)
@robot_option
@click.option("--zones", type=FILE, help="A zones file, or a site file with zones; the map's own if not given.")
@scan_option
@scan_at_option
@click.option("-o", "--out", type=OUT, help="The costmap to write, NAME.npz.")
@click.option("--narrow", is_flag=True, help="List the doorways and aisles that the robot passes only just, or not.")
@click.option("--explain", metavar="X,Y", help="Tell what each layer charges there, and why.")
@click.option("--layers", is_flag=True, help="Draw each layer apart, and what closes each cell.")
@click.option("--along", metavar="X,Y X,Y", nargs=2, help="Draw the prices along a line between two points.")
@click.option("--against", type=FILE, help="Draw the prices with this other settings file beside them.")
@settings_option
@picture_option
@json_option
def price(as_json: bool, **given: Any) -> int:
    """Give each cell of MAP a price, in metres-equivalent per metre: 1 is clear floor, inf is closed."""
    return tell(run_price(PriceOptions(**given)), as_json)


@dataclass(frozen=True)
class PriceOptions:
    """What the command is given, as its help tells."""

    map: Path
    robot: Path
    zones: Path | None = None
    scan: str | None = None
    scan_at: str | None = None
    out: Path | None = None
    narrow: bool = False
    explain: str | None = None
    layers: bool = False
    along: tuple[str, str] | None = None
    against: Path | None = None
    settings: Path | None = None
    picture: Path | None = None


def run_price(given: PriceOptions) -> Outcome:
    """Do what the command does."""
    from vinecompass.costs import price_floor, write_costmap
    from vinecompass.planning import find_narrow_places
    from vinecompass.robot import read_robot

    for option, wanted in (("--layers", given.layers), ("--along", given.along), ("--against", given.against)):
        if wanted and given.picture is None:
            raise InputError("draws", key=option, expected="--picture FILE.png, too")
    mapped, robot = load_map_record(given.map), read_robot(given.robot)
    grid = mapped.grid
    chosen = load_settings(given.settings).costs
    zones = mapped.zones if given.zones is None else load_zones(given.zones)
    obstacles = seen_obstacles(grid, robot, given.scan, given.scan_at, chosen)
    costmap = price_floor(grid, robot, zones=zones, obstacles=obstacles, settings=chosen)
    quality, details, files = _areas(costmap), [], {}
    if obstacles is not None:
        quality["obstacle_cells"] = int(obstacles.mask.sum())
        details.append(f"{given.scan} sees {quality['obstacle_cells']} cells of obstacles that the map does not know")
    if given.explain is not None:
        quality["charges"], told = _explained(costmap, given.explain)
        details += told
    places = find_narrow_places(costmap, robot) if given.narrow else []
    if given.narrow:
        quality["narrow_places"] = [_told(place) for place in places]
        details += [str(place) for place in places] or ["no narrow place"]
    if given.out is not None:
        files["costmap"] = str(write_costmap(costmap, given.out))
    if given.picture is not None:
        from vinecompass.figures import save_figure

        other = None
        if given.against is not None:
            settings = load_settings(given.against).costs
            other = price_floor(grid, robot, zones=zones, obstacles=obstacles, settings=settings)
        files["picture"] = str(save_figure(_drawn(given, costmap, robot, places, other), given.picture))
    return Outcome(
        "price",
        _line(costmap, robot, quality, places),
        quality=quality,
        files=files,
        details=details,
        hint=f"vinecompass plan {given.map} --robot {given.robot} --from x,y,heading_deg --to x,y,heading_deg",
    )


def _areas(costmap: CostMap) -> dict[str, Any]:
    """Return how much of the free floor is open, and clear, and what the dearest of it costs."""
    import numpy as np

    prices, area = costmap.prices[costmap.grid.free], costmap.grid.cell_size**2
    finite = prices[np.isfinite(prices)]
    return {
        "free_m2": len(prices) * area,
        "open_m2": len(finite) * area,
        "clear_m2": np.sum(finite == 1.0) * area,
        "dearest_m_per_m": finite.max(initial=1.0),
    }


def _explained(costmap: CostMap, point: str) -> tuple[dict[str, Any], list[str]]:
    """Return what each layer charges at a point, for programs and for people."""
    x, y = find_point(point, option="--explain")
    charges = costmap.explain(x, y)
    if not charges:
        raise InputError("lies off the map", key="--explain", value=point, expected="x,y on the map")
    numbers = {
        name: {"factor": charge.factor, "closed": math.isinf(charge.factor), "why": charge.why}
        for name, charge in charges.items()
    }
    return numbers, [f"at {x:.2f}, {y:.2f} {name:<10} {charge}" for name, charge in charges.items()]


def _drawn(
    given: PriceOptions, costmap: CostMap, robot: Robot, places: list[NarrowPlace], other: CostMap | None
) -> FigureBase:
    """Draw what the options ask for."""
    from vinecompass.figures import draw_cost_change, draw_costs, draw_layers, draw_profile

    if other is not None and given.against is not None:
        return draw_cost_change(costmap, other, "as set", given.against.name)
    if given.along is not None:
        return draw_profile(costmap, robot, *(find_point(text, option="--along") for text in given.along))
    return draw_layers(costmap) if given.layers else draw_costs(costmap, robot, places)


def _line(costmap: CostMap, robot: Robot, quality: dict[str, Any], places: list[NarrowPlace]) -> str:
    line = (
        f"of {quality['free_m2']:.0f} m2 free floor {quality['open_m2']:.0f} m2 are open to {robot.name}, "
        f"{quality['clear_m2']:.0f} m2 of them clear; the dearest costs {quality['dearest_m_per_m']:.1f} m per m"
    )
    if places:
        shut = sum(not place.passes for place in places)
        line += f"; {counted(len(places), 'narrow place')}, {shut} of them closed to it"
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
