"""vinecompass price: a costmap from a map."""

from __future__ import annotations

from pathlib import Path

import click

from vinecompass.cli.common import (
    FILE,
    Outcome,
    json_option,
    load_map,
    load_settings,
    load_zones,
    picture_option,
    robot_option,
    settings_option,
    tell,
)  # fmt: skip

__all__ = ["price", "run_price"]


@click.command(short_help="Price the floor of a map for a robot.")
@click.argument("map", type=FILE)
@robot_option
@click.option("--zones", type=FILE, help="A zones file, or a site file with zones; the map's own if not given.")
@click.option("-o", "--out", type=FILE, help="The costmap to write, NAME.npz.")
@settings_option
@picture_option
@json_option
def price(
    map: Path, robot: Path, zones: Path | None, out: Path | None, settings: Path | None, picture: Path | None,
    as_json: bool,
) -> int:  # fmt: skip
    """Give each cell of MAP a price, in metres-equivalent per metre: 1 is clear floor, inf is closed."""
    return tell(run_price(map, robot, zones, out, settings=settings, picture=picture), as_json)


def run_price(
    map_path: Path, robot_path: Path, zones: Path | None, out: Path | None, *, settings: Path | None = None,
    picture: Path | None,
) -> Outcome:  # fmt: skip
    """Do what the command does."""
    import numpy as np

    from vinecompass.costs import price_floor, write_costmap
    from vinecompass.robot import read_robot

    grid, robot = load_map(map_path), read_robot(robot_path)
    costmap = price_floor(grid, robot, zones=load_zones(zones or map_path), settings=load_settings(settings).costs)
    prices, area = costmap.prices[grid.free], grid.cell_size**2
    finite = prices[np.isfinite(prices)]
    quality = {
        "free_m2": len(prices) * area, "open_m2": len(finite) * area, "clear_m2": np.sum(finite == 1.0) * area,
        "dearest_m_per_m": finite.max(initial=1.0),
    }  # fmt: skip
    files = {}
    if out is not None:
        files["costmap"] = str(write_costmap(costmap, out))
    if picture is not None:
        from vinecompass.figures import draw_costs, save_figure

        files["picture"] = str(save_figure(draw_costs(costmap, robot), picture))
    return Outcome(
        "price",
        f"of {quality['free_m2']:.0f} m2 free floor {quality['open_m2']:.0f} m2 are open to {robot.name}, "
        f"{quality['clear_m2']:.0f} m2 of them clear; the dearest costs {quality['dearest_m_per_m']:.1f} m per m",
        quality=quality, files=files,
        hint=f"vinecompass plan {map_path} --robot {robot_path} --from x,y,heading_deg --to x,y,heading_deg",
    )  # fmt: skip
