"""vinecompass tune --shown: find the prices of the floor under which plans take the ways that a person showed."""

from __future__ import annotations

import json
import math
from pathlib import Path
from typing import TYPE_CHECKING, Any

from vinecompass.cli.common import Outcome, load_map_record, load_settings, progress_bar
from vinecompass.errors import InputError

if TYPE_CHECKING:
    from vinecompass.tuning import ShownPrices, Unexplained

__all__ = ["run_tune_shown"]


def run_tune_shown(
    map_path: Path | None,
    shown: tuple[Path, ...],
    *,
    robot: Path | None,
    settings: Path | None = None,
    out: Path | None = None,
    seed: int = 0,
    picture: Path | None = None,
) -> Outcome:
    """Do what the command does with ``--shown``."""
    from vinecompass.costs import price_floor
    from vinecompass.files import atomic_write, check_suffix
    from vinecompass.robot import read_robot
    from vinecompass.settings import settings_text
    from vinecompass.tuning import learn_prices, read_shown_ways, unexplained_places

    for name, value in (("MAP", map_path), ("--robot", robot)):
        if value is None:
            raise InputError("is needed", key=name, expected="a path, with --shown")
    assert map_path is not None and robot is not None
    if out is not None:
        check_suffix(out, ".toml", "a vinecompass settings")
    mapped, given = load_map_record(map_path), load_settings(settings).costs
    grid, zones = mapped.grid, mapped.zones
    told = read_robot(robot)
    ways = [way for path in shown for way in read_shown_ways(path, grid)]
    with progress_bar() as progress:
        found = learn_prices(grid, told, ways, settings=given, zones=zones, seed=seed, progress=progress)
    unexplained = unexplained_places(grid, told, found, zones)
    values: dict[str, Any] = {
        f"costs.{key}": getattr(found.settings, key)
        for key in ("contact_price", "comfort", "fall")
        if getattr(found.settings, key) != getattr(given, key)
    }
    files = {}
    if out is not None and values:
        files["settings"] = str(atomic_write(out, settings_text(values, settings)))
    if picture is not None:
        from vinecompass.figures import draw_shown, save_figure

        before, after = (price_floor(grid, told, zones=zones, settings=each) for each in (given, found.settings))
        files["picture"] = str(save_figure(draw_shown(before, after, found, unexplained), picture))
    return Outcome(
        "tune",
        _line(found, values),
        done=found.is_nearer,
        quality=_numbers(found, values, unexplained),
        files=files,
        hint=f"vinecompass plan ... --settings {files['settings']}" if "settings" in files else "",
        details=_details(found, unexplained, map_path),
    )


def _line(found: ShownPrices, values: dict[str, Any]) -> str:
    """Return the result in one line."""
    held_back = any(each.held_back for each in found.ways)
    before, after = found.apart(held_back=held_back)
    whose = "held back" if held_back else "shown"
    if not values:
        return f"plans run {before:.2f} m from the ways {whose}, and no prices tried bring them nearer"
    changed = ", ".join(f"{key} = {json.dumps(value)}" for key, value in values.items())
    return f"with {changed} plans run {after:.2f} m from the ways {whose}, before {before:.2f} m"


def _details(found: ShownPrices, unexplained: list[Unexplained], map_path: Path) -> list[str]:
    lines = [f"{'way':<28} {'length, m':>9} {'plan off it before, m':>22} {'after':>6}"]
    for each in found.ways:
        lines.append(
            f"{each.way.name[:28]:<28} {each.way.length:>9.1f} {each.apart_before:>22.2f} {each.apart_after:>6.2f}"
            + ("  held back" if each.held_back else "")
        )
    for place in unexplained:
        x, y = place.place
        where = f"{place.way}: no setting explains it near {x:.1f}, {y:.1f}"
        if math.isinf(place.off):
            lines.append(f"{where}: no plan leads there, by the map the way crosses closed floor")
        elif place.zone is None:
            lines.append(f"{where}, {place.off:.1f} m off, nor does a dear zone where the plan goes")
        else:
            corners = " ".join(f"{a:g},{b:g}" for a, b in place.zone.polygon)
            lines.append(f"{where}, {place.off:.1f} m off; this zone does:")
            zone = f"{place.zone.name}:dear={place.zone.factor:g}:{corners}"
            lines.append(f"  vinecompass edit {map_path} --zone '{zone}'")
    return lines


def _numbers(found: ShownPrices, values: dict[str, Any], unexplained: list[Unexplained]) -> dict[str, Any]:
    return {
        "nearer": found.is_nearer,
        "settings": values,
        "ways": [
            {
                "name": each.way.name,
                "length_m": each.way.length,
                "held_back": each.held_back,
                "before_m": each.apart_before,
                "after_m": each.apart_after,
            }
            for each in found.ways
        ],
        "unexplained": [
            {
                "way": place.way,
                "x_m": float(place.place[0]),
                "y_m": float(place.place[1]),
                "off_m": place.off,
                "zone": None if place.zone is None else place.zone.model_dump(exclude_unset=True),
            }
            for place in unexplained
        ],
    }
