"""One small whole file of every format, and who reads it."""

from __future__ import annotations

import functools
import json
import tempfile
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import ezdxf.filemanagement
import numpy as np

from vinecompass import (
    Grid,
    Robot,
    Run,
    Settings,
    Simulator,
    demo_file,
    grid_from_picture,
    grid_from_plan,
    grid_from_polygons,
    guess_format,
    import_run,
    plan_path,
    price_floor,
    read_floor_plan,
    read_map_record,
    read_robot,
    read_round,
    read_run,
    read_settings,
    read_site,
    read_study,
    read_track,
    read_zones,
    record_drive,
    write_map,
    write_plan,
    write_run,
    write_track,
)
from vinecompass.files import atomic_write
from vinecompass.grids import apply_edits, check_edits
from vinecompass.judging import judge_map
from vinecompass.odometry import dead_reckon
from vinecompass.settings import settings_text
from vinecompass.tuning import LocalizationCase, StudyRun, Trial
from vinecompass.tuning.shown_ways import read_shown_ways

__all__ = ["Original", "drive", "make_originals", "map_of_the_room", "robot"]

SITE = """format = "vinecompass site"
version = 1
name = "cooper's shop"
start = [1.5, 1.5, 0.0]
[[wall]]
points = [[0, 0], [6, 0], [6, 4], [0, 4], [0, 0]]
[[solid]]
name = "cask"
polygon = [[4, 2.6], [4.8, 2.6], [4.8, 3.4], [4, 3.4]]
[[floor]]
name = "wet patch"
grip = 0.5
polygon = [[2, 1], [3, 1], [3, 2], [2, 2]]
[[person]]
name = "cooper"
route = [[1, 3], [3, 3]]
speed = 0.8
[[zone]]
name = "quiet corner"
kind = "slow"
speed = 0.3
polygon = [[5, 0.2], [5.8, 0.2], [5.8, 1], [5, 1]]
[[stop]]
name = "bench"
pose = [4.6, 1.5, 0.0]
[[route]]
name = "across"
points = [[1.5, 1.5], [2.6, 1.5]]
"""
ZONES = """format = "vinecompass zones"
version = 1
[[zone]]
name = "passage"
kind = "one-way"
heading_deg = 90.0
polygon = [[1, 1], [2, 1], [2, 2], [1, 2]]
[[zone]]
name = "kept clear"
kind = "dear"
factor = 3.0
polygon = [[3, 1], [4, 1], [4, 2], [3, 2]]
"""
ROUND = """format = "vinecompass round"
version = 1
name = "one stop"
[[stop]]
name = "bench"
pose = [4.6, 1.5, 0.0]
"""


@dataclass(frozen=True)
class Original:
    """A file that can be read, by its path in a folder of its own."""

    name: str
    path: str
    read: Callable[[Path], Any]


@functools.cache
def robot() -> Robot:
    """Return the shipped robot with few beams, so that its runs are small."""
    shipped = read_robot(demo_file("robot.toml"))
    return shipped.model_copy(update={"lidars": [shipped.scanner.model_copy(update={"beams": 37})]})


@functools.cache
def drive(seed: int = 0) -> Run:
    """Return a metre's drive in a small room."""
    with tempfile.TemporaryDirectory() as folder:
        path = atomic_write(Path(folder) / "site.toml", SITE)
        site = read_site(path)
    return record_drive(site, robot(), site.routes[0].points, seed=seed, site_toml=SITE)


@functools.cache
def map_of_the_room() -> Grid:
    """Return that room's map."""
    cask = [(4.0, 2.6), (4.8, 2.6), (4.8, 3.4), (4.0, 3.4)]
    return grid_from_polygons([(0.0, 0.0), (6.0, 0.0), (6.0, 4.0), (0.0, 4.0)], [cask], cell_size=0.05)


def make_originals(folder: Path) -> list[Original]:
    """Write one file of every format into folders of their own, and return them with who reads each."""
    run, grid = drive(), map_of_the_room()
    write_run(run, folder / "csv", tables="csv")
    write_run(run, folder / "parquet", tables="parquet")
    (folder / "one").mkdir()
    one = folder / "one"
    for name, text in (("site.toml", SITE), ("zones.toml", ZONES), ("round.toml", ROUND)):
        atomic_write(one / name, text)
    atomic_write(one / "robot.toml", (folder / "csv" / "robot.toml").read_bytes())
    atomic_write(
        one / "settings.toml",
        settings_text({"costs.comfort": 0.4, "following.planner": "band"}),
    )
    painted = {"do": "paint", "reading": "occupied", "line": [[1, 3], [2, 3]]}
    edits = check_edits([{"do": "specks", "area_m2": 0.02}, painted])
    edited, _ = apply_edits(grid, edits, folder=folder)
    write_map(edited, folder / "map" / "map.png", edits=edits, unedited=grid, zones=read_zones(one / "zones.toml"))
    levels = bytes(np.where(grid.occupied, 0, 255).astype(np.uint8)[::-1])
    rows, columns = grid.shape
    (folder / "pgm").mkdir()
    atomic_write(folder / "pgm" / "map.pgm", f"P5 {columns} {rows} 255\n".encode() + levels)
    atomic_write(folder / "pgm" / "map.toml", _header(grid))
    write_track(run.truth, one / "track.csv")
    plan = plan_path(price_floor(grid, robot()), robot(), [1.5, 1.5, 0.0], [4.6, 1.5, 0.0])
    write_plan(plan, one / "plan.csv")
    walls = [[0.0, 0.0], [6.0, 0.0], [6.0, 4.0], [0.0, 4.0], [0.0, 0.0]]
    feature = {"type": "Feature", "properties": {}, "geometry": {"type": "LineString", "coordinates": walls}}
    atomic_write(one / "plan.geojson", json.dumps({"type": "FeatureCollection", "features": [feature]}))
    drawing = ezdxf.filemanagement.new(units=6)
    drawing.modelspace().add_lwpolyline(walls)
    drawing.saveas(one / "plan.dxf")
    case = LocalizationCase(grid, (run,), (dead_reckon(run.wheels, run.robot.drive),), Settings())
    with StudyRun(case, folder / "study", made_of={}, workers=1) as study:
        study.run([Trial(0, 0, {})])
    return [
        Original("robot", "one/robot.toml", lambda path: price_floor(grid, read_robot(path))),
        Original("site", "one/site.toml", lambda path: Simulator(read_site(path), robot(), seed=0)),
        Original("zones", "one/zones.toml", lambda path: price_floor(grid, robot(), zones=read_zones(path))),
        Original("round", "one/round.toml", read_round),
        Original("settings", "one/settings.toml", read_settings),
        Original("track", "one/track.csv", read_track),
        Original("plan", "one/plan.csv", lambda path: read_shown_ways(path, grid)),
        Original("map's header", "map/map.toml", lambda path: _use_map(path.with_suffix(".png"))),
        Original("map's picture", "map/map.png", _use_map),
        Original("map before its edits", "map/map.unedited.png", lambda path: _use_map(path.parent / "map.png")),
        Original("PGM", "pgm/map.pgm", _use_map),
        Original("a picture to import", "map/map.png", lambda path: grid_from_picture(path, 0.05)),
        Original("a floor plan", "one/plan.geojson", _use_plan),
        Original("a drawing", "one/plan.dxf", _use_plan),
        *(
            Original(f"run's {name}", f"{tables}/{name}", lambda path: _use_run(path.parent))
            for tables, names in (
                ("csv", ("run.toml", "robot.toml", "scans.csv", "wheels.csv", "imu.csv", "truth.csv", "commands.csv")),
                ("parquet", ("scans.parquet", "wheels.parquet", "imu.parquet", "truth.parquet")),
            )
            for name in names
        ),
        Original("a log of scans", "csv/scans.csv", lambda path: _import(path)),
        Original("study", "study/study.toml", lambda path: read_study(path.parent)),
        Original("study's part", "study/parts/000000.parquet", lambda path: read_study(path.parent.parent)),
    ]


def _header(grid: Grid) -> str:
    rows, columns = grid.shape
    corner = f"[{float(grid.corner[0])}, {float(grid.corner[1])}]"
    place = f"cell_size = {grid.cell_size}\ncorner = {corner}\nturn_deg = 0.0\nsize = [{columns}, {rows}]\n"
    return f'format = "vinecompass map"\nversion = 1\n{place}'


def _use_map(path: Path) -> None:
    record = read_map_record(path)
    if record.grid.log_odds.size < 100_000:
        judge_map(record.grid)
        price_floor(record.grid, robot(), zones=record.zones)


def _use_plan(path: Path) -> None:
    grid_from_plan(read_floor_plan(path), 0.05)


def _use_run(folder: Path) -> None:
    run = read_run(folder)
    if run.wheels is not None:
        dead_reckon(run.wheels, run.robot.drive, start=run.start)


def _import(path: Path) -> None:
    wheels = path.parent / "wheels.csv"
    guess = guess_format("scans", [path], robot())
    import_run({"scans": path, "wheels": wheels}, robot(), formats={"scans": guess.how})
