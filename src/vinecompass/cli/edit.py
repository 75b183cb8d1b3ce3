"""vinecompass edit: repair a map, and add zones to it."""

from __future__ import annotations

from collections.abc import Callable
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.common import FiniteRange, Outcome, counted, json_option, picture_option, tell
from vinecompass.cli.outputs import FILE, OUT, Writing
from vinecompass.errors import InputError

if TYPE_CHECKING:
    from vinecompass.grids import Edit, MapRecord

__all__ = ["edit_command", "run_edit"]

Step = tuple[str, Any]
STEPS = "vinecompass.steps"


def _step(*names: str, **attributes: Any) -> Callable[[Any], Any]:
    """An option that may be given many times; the steps are done in the order in which they stand on the line."""

    def keep(context: click.Context, option: click.Parameter, values: Any) -> None:
        for value in values if isinstance(values, tuple) else [values] * bool(values):
            context.meta.setdefault(STEPS, []).append((option.name, value))

    attributes["multiple"] = not attributes.get("is_flag")
    return click.option(*names, expose_value=False, callback=keep, **attributes)


@click.command("edit", cls=Writing, short_help="Repair a map and add zones to it.")
@click.argument("map_path", metavar="MAP", type=FILE)
@click.option("-o", "--out", type=OUT, help="Write the result there and leave MAP as it is.")
@_step("--wall", metavar="LINE", help="Draw a wall.")
@_step("--erase", metavar="POLYGON", help="Make the floor in a polygon free.")
@_step("--block", metavar="POLYGON", help="Make it occupied: close off a room.")
@_step("--forget", metavar="POLYGON", help="Make it unknown.")
@_step("--brush", metavar="LINE:WIDTH", help="Make the floor along a line free, so many metres wide.")
@_step("--specks", metavar="M2", type=FiniteRange(1e-6, 1e6), help="Clear occupied specks up to this area.")
@_step(
    "--pockets",
    metavar="M2",
    type=FiniteRange(1e-6, 1e6),
    help="Fill unknown pockets up to this area with what surrounds them.",
)
@_step("--crop", metavar="X,Y,X,Y", help="Keep what lies between two corners.")
@_step("--cell-size", metavar="M", type=FiniteRange(0.001, 10.0), help="Resample to cells of this side.")
@_step("--square", is_flag=True, help="Turn the site frame so that the main walls run along its axes.")
@_step("--origin", metavar="X,Y,HEADING_DEG", help="Move the origin of the site frame to a pose.")
@_step("--merge", metavar="OTHER", type=FILE, help="Lay another map of this floor over it, where it fits.")
@_step("--zone", metavar="NAME:KIND:POLYGON", help="Add a zone, closed or dear=FACTOR.")
@_step("--replay", metavar="OTHER", type=FILE, help="Do all edits of another map.")
@_step("--undo", is_flag=True, help="Drop the last edit.")
@picture_option
@json_option
@click.pass_context
def edit_command(context: click.Context, map_path: Path, out: Path | None, picture: Path | None, as_json: bool) -> int:
    """Edit MAP, in the order in which the options stand. Without any, list its edits and zones.

    A LINE or POLYGON is corners in site metres with spaces between: "3,4 5,4 5,6". Each edit is recorded beside the
    map, can be undone, and can be replayed on a map made anew.
    """
    return tell(run_edit(map_path, context.meta.get(STEPS, []), out=out, picture=picture), as_json)


def run_edit(map_path: Path, steps: list[Step], *, out: Path | None = None, picture: Path | None = None) -> Outcome:
    """Do what the command does."""
    from vinecompass.grids import apply_edits, check_edits, check_map_name, read_map_record, write_map

    if out is not None:
        check_map_name(out)
    record = read_map_record(map_path)
    edits, base, notes = list(record.edits), record.unedited or record.grid, []
    if record.painted:
        notes.append(record.painted)
    if steps and (record.painted or (edits and record.unedited is None)):
        # The picture is the truth: what was painted must not be lost, and what led to it cannot be told from it.
        notes.append(f"the picture as it is now is kept as the unedited map; {len(edits)} edits before it are final")
        edits = check_edits([{"do": "zone", "zone": zone} for zone in record.zones])
        base = record.grid
    grid, zones, files, target = record.grid, list(record.zones), {}, out or map_path
    if steps:
        for name, value in steps:
            edits = _after(name, value, edits, base, map_path)
        grid, zones = apply_edits(base, edits, folder=map_path.parent)
        written = write_map(grid, target, zones=zones, edits=edits, unedited=base, making=record.making)
        files = {path.suffix[1:]: str(path) for path in written if ".unedited" not in path.name}
    if picture is not None:
        from vinecompass.figures import draw_edits, save_figure

        files["picture"] = str(save_figure(draw_edits(record.grid, grid, zones), picture))
    details = [f"{number}. {_told(edit)}" for number, edit in enumerate(edits, start=1)]
    details += [f"zone {zone.name}: {zone.kind}, {len(zone.polygon)} corners" for zone in zones]
    return Outcome(
        "edit",
        f"{target.name} has {counted(len(edits), 'edit')} and {counted(len(zones), 'zone')}; {_change(record, grid)}",
        quality={
            "edits": len(edits),
            "zones": len(zones),
            "cell_size_m": grid.cell_size,
            "size_x_m": grid.shape[1] * grid.cell_size,
            "size_y_m": grid.shape[0] * grid.cell_size,
            "free_m2": grid.free.sum() * grid.cell_size**2,
            "occupied_m2": grid.occupied.sum() * grid.cell_size**2,
            "edit_list": [edit.model_dump(exclude_none=True, mode="json") for edit in edits],
            "notes": notes,
        },
        files=files,
        details=notes + details,
        hint=f"vinecompass judge {target}" if steps else f"vinecompass edit {target} --help",
    )


def _after(name: str, value: Any, edits: list[Edit], base: Any, map_path: Path) -> list[Edit]:
    """Return the edits after one more step on the command line."""
    import numpy as np

    from vinecompass.grids import apply_edits, check_edits, main_direction, read_map_record

    if name == "undo":
        if not edits:
            raise InputError("there is no edit to undo", file=map_path, key="--undo")
        return edits[:-1]
    if name == "replay":
        return edits + list(read_map_record(value).edits)
    if name in ("square", "merge"):
        grid, _ = apply_edits(base, edits, folder=map_path.parent)
        if name == "merge":
            return edits + check_edits([_merge(grid, value, map_path)])
        return edits + check_edits([{"do": "turn", "turn_deg": round(float(np.degrees(main_direction(grid))), 3)}])
    simple: dict[str, Callable[[], dict[str, Any]]] = {
        "specks": lambda: {"do": "specks", "area_m2": value},
        "pockets": lambda: {"do": "pockets", "area_m2": value},
        "cell_size": lambda: {"do": "resample", "cell_size": value},
        "wall": lambda: {"do": "paint", "reading": "occupied", "line": _corners(value, "--wall")},
        "erase": lambda: {"do": "paint", "reading": "free", "polygon": _corners(value, "--erase")},
        "block": lambda: {"do": "paint", "reading": "occupied", "polygon": _corners(value, "--block")},
        "forget": lambda: {"do": "paint", "reading": "unknown", "polygon": _corners(value, "--forget")},
        "brush": lambda: _brush(value),
        "crop": lambda: _crop(value),
        "origin": lambda: {"do": "origin", "pose": _numbers(value, 3, "--origin", "x,y,heading_deg")},
        "zone": lambda: _zone(value),
    }
    step = simple[name]()
    try:
        return edits + check_edits([step])
    except InputError as error:
        option, part = f"--{name.replace('_', '-')}", (error.key or "").rpartition(".")[2]
        if isinstance(error.value, str | float):
            part += f" {error.value!r}"
        raise InputError(f"{part} {error.problem}", key=option, value=value, expected=error.expected) from None


def _merge(grid: Any, other: Path, map_path: Path) -> dict[str, Any]:
    import numpy as np

    from vinecompass.grids import read_map
    from vinecompass.judging import align_maps

    if other.resolve().parent != map_path.resolve().parent:
        raise InputError("lies in another folder", key="--merge", value=str(other), expected=f"a map beside {map_path}")
    x, y, heading = align_maps(read_map(other), grid).pose
    pose = [round(float(x), 4), round(float(y), 4), round(float(np.degrees(heading)), 4)]
    return {"do": "merge", "map": other.name, "pose": pose}


def _numbers(text: str, count: int, option: str, wish: str) -> list[float]:
    try:
        numbers = [float(part) for part in text.split(",")]
    except ValueError:
        numbers = []
    if len(numbers) != count:
        raise InputError("cannot be read", key=option, value=text, expected=wish)
    return numbers


def _corners(text: str, option: str) -> list[list[float]]:
    return [_numbers(part, 2, option, '"x,y x,y ..." in metres') for part in text.split()]


def _brush(text: str) -> dict[str, Any]:
    line, _, width = text.rpartition(":")
    return {
        "do": "paint",
        "reading": "free",
        "line": _corners(line, "--brush"),
        "width": _numbers(width, 1, "--brush", '"x,y x,y ...:WIDTH" in metres')[0],
    }


def _crop(text: str) -> dict[str, Any]:
    x, y, far_x, far_y = _numbers(text, 4, "--crop", "x,y,x,y in metres")
    return {"do": "crop", "low": [min(x, far_x), min(y, far_y)], "high": [max(x, far_x), max(y, far_y)]}


def _zone(text: str) -> dict[str, Any]:
    if text.count(":") < 2:
        raise InputError(
            "cannot be read", key="--zone", value=text, expected='NAME:KIND:POLYGON, as "wet:closed:1,1 2,1"'
        )
    name, kind, polygon = text.split(":", 2)
    kind, _, factor = kind.partition("=")
    zone: dict[str, Any] = {"name": name, "kind": kind, "polygon": _corners(polygon, "--zone")}
    if factor:
        zone["factor"] = _numbers(factor, 1, "--zone", "NAME:dear=FACTOR:POLYGON")[0]
    return {"do": "zone", "zone": zone}


def _told(edit: Edit) -> str:
    """Return an edit in a line for people."""
    values = edit.model_dump(exclude_none=True, exclude_defaults=True, exclude={"do"}, mode="json")
    return f"{edit.do} {_spelled(values.get(edit.do, values))}"


def _spelled(value: Any) -> str:
    """Return a value as the options spell it: corners with spaces between, and their numbers with commas."""
    match value:
        case dict():
            return ", ".join(f"{key} {_spelled(inner)}" for key, inner in value.items())
        case [[*_], *_]:
            return " ".join(map(_spelled, value))
        case [*_]:
            return ",".join(map(_spelled, value))
        case float():
            return f"{value:g}"
    return str(value)


def _change(record: MapRecord, grid: Any) -> str:
    parts = []
    for name in ("occupied", "free", "unknown"):
        before, after = (getattr(one, name).sum() * one.cell_size**2 for one in (record.grid, grid))
        if abs(after - before) > 1e-9:
            parts.append(f"{after - before:+.2f} m2 {name}")
    return ", ".join(parts) or "no cell changed"
