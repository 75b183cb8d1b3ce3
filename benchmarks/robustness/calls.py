"""Every public call with arguments that are something else: each is refused by name, or answered."""

from __future__ import annotations

import contextlib
import tempfile
import traceback
import warnings
from collections.abc import Callable
from pathlib import Path
from typing import Any

import numpy as np
import shapely

import vinecompass as vine
from benchmarks.robustness.originals import SITE, drive, map_of_the_room, robot
from vinecompass import VineCompassError
from vinecompass.files import atomic_write
from vinecompass.grids import FloorPlan

__all__ = ["campaign", "good_calls", "try_calls"]

WRONG: dict[str, Callable[[], Any]] = {
    "None": lambda: None,
    "a text": lambda: "bench",
    "-1": lambda: -1,
    "nan": lambda: float("nan"),
    "1e300": lambda: 1e300,
    "two numbers": lambda: [1.0, 2.0],
    "not finite": lambda: [float("nan"), 0.0, 0.0],
    "a list of texts": lambda: ["a", "b", "c"],
    "an empty list": list,
    "a matrix": lambda: np.zeros((4, 4)),
    "a robot": robot,
    "a map": map_of_the_room,
    "a dict": dict,
}
START, GOAL = [1.5, 1.5, 0.0], [4.6, 1.5, 0.0]


def good_calls(folder: Path) -> dict[str, dict[str, Any]]:
    """Return arguments with which each public call goes well."""
    run, grid = drive(), map_of_the_room()
    site = vine.read_site(atomic_write(folder / "site.toml", SITE))
    costmap = vine.price_floor(grid, robot())
    plan = vine.plan_path(costmap, robot(), START, GOAL)
    problem = vine.Problem(costmap, robot(), START, GOAL)
    scan = vine.Scan(0.0, run.scans.ranges[0])
    mapped = {"grid": grid, "robot": robot()}
    found = {"log_odds": grid.log_odds, "cell_size": 0.05, "corner": (0.0, 0.0), "turn": 0.0}
    return {
        "demo_file": {"name": "robot.toml"},
        "limits_of": {"drive": robot().drive},
        "Command": {"speed": 0.1, "sideways": 0.0, "turn_rate": 0.0},
        "Walking": {"x": 0.0, "y": 0.0, "radius": 0.25},
        "Run": {"robot": robot(), "start": np.zeros(3), "scans": run.scans, "wheels": run.wheels, "truth": run.truth},
        "Track": {"t": run.truth.t, "poses": run.truth.poses},
        "compare_relations": {"track": run.truth, "truth": run.truth},
        "compare_tracks": {"track": run.truth, "truth": run.truth},
        "write_run": {"run": run, "folder": folder / "run", "tables": "parquet", "records": None},
        "write_track": {"track": run.truth, "path": folder / "track.csv"},
        "read_run": {"folder": folder / "run"},
        "read_track": {"path": folder / "track.csv"},
        "Grid": found,
        "clearance": {"occupied": grid.occupied, "cell_size": 0.05},
        "grid_from_drawing": {"drawing": "#.#\n#.#", "cell_size": 0.05, "corner": (0.0, 0.0)},
        "grid_from_plan": {"plan": FloorPlan([shapely.LinearRing([(0, 0), (1, 0), (1, 1)])]), "cell_size": 0.05},
        "grid_from_polygons": {"floor": [(0, 0), (1, 0), (1, 1)], "solids": [], "cell_size": 0.05},
        "apply_edits": {"grid": grid, "edits": [], "folder": folder},
        "write_map": {"grid": grid, "path": folder / "map.png", "zones": site.zones, "unedited": None},
        "read_map": {"path": folder / "map.png"},
        "align_maps": {"grid": grid, "reference": grid},
        "compare_maps": {"grid": grid, "other": grid},
        "judge_map": {"grid": grid},
        "measure_map": {"grid": grid, "site": site, "run": run},
        "LaserOdometry": {"lidar": robot().scanner, "mount": START},
        "dead_reckon": {"wheels": run.wheels, "drive": robot().drive, "start": START},
        "OdometryFusion": {"robot": robot(), "start": START, "settings": vine.Settings().fusion},
        "fuse": {"run": run, "sources": ["wheels"], "settings": vine.Settings().fusion},
        "check": {"run": run},
        "price_floor": {**mapped, "zones": site.zones, "people": [], "settings": vine.Settings().costs},
        "LiveCosts": {**mapped, "zones": site.zones, "settings": vine.Settings().costs},
        "find_narrow_places": {"costmap": costmap, "robot": robot(), "gap": 0.2},
        "site_from_map": {"grid": grid, "start": START, "zones": site.zones, "stops": {"there": GOAL}, "routes": {}},
        "write_site": {"site": site, "path": folder / "made.toml"},
        "Simulator": {"site": site, "robot": robot(), "start": START, "seed": 0},
        "Mapper": {"robot": robot(), "start": START, "settings": vine.Settings().mapping},
        "build_map": {"run": run, "odometry": run.truth, "settings": vine.Settings().mapping},
        "ParticleLocalizer": {
            **mapped,
            "initial_pose": START,
            "settings": vine.Settings().localization,
            "seed": 0,
        },
        "find_places": {**mapped, "scan": scan, "share": 0.9, "near": 0.18},
        "localize": {"grid": grid, "run": run, "initial_pose": START, "odometry": run.truth, "seed": 0},
        "CostToGo": {"prices": np.ones((5, 6)), "goal": (0, 4)},
        "DubinsMotion": {"radius": 0.5},
        "ReedsSheppMotion": {"radius": 0.5},
        "Problem": {"costmap": costmap, "robot": robot(), "start": START, "goal": GOAL},
        "compare_planners": {"problem": problem, "entries": ["a-star"], "repeat": 1},
        "plan_path": {
            "costmap": costmap,
            "robot": robot(),
            "start": START,
            "goal": GOAL,
            "method": "a-star",
            "settings": vine.Settings().planning,
            "seed": 0,
        },
        "write_plan": {"plan": plan, "path": folder / "plan.csv"},
        "PathFollower": {"robot": robot(), "settings": vine.Settings().following},
        "TimeBand": {"robot": robot(), "settings": vine.Settings().following, "band": vine.Settings().band},
        "VelocityWindow": {"robot": robot(), "settings": vine.Settings().following},
        "Navigator": {**mapped, "initial_pose": START, "goals": GOAL, "zones": site.zones, "seed": 0},
        "RecordedLink": {"run": run, "odometry": run.truth},
        "SimulatedLink": {"site": site, "robot": robot(), "seed": 0, "rate": 20.0, "start": START},
        "record_drive": {"site": site, "robot": robot(), "route": [(1.5, 1.5), (1.8, 1.5)], "seed": 0},
        "rehearse_mission": {
            "site": site,
            "robot": robot(),
            "grid": grid,
            "goal": [2.0, 1.5, 0.0],
            "start": START,
            "settings": vine.Settings(),
            "seed": 0,
            "time_limit": 5.0,
        },
        "draw": {"thing": grid},
        "read_play": {"folder": folder / "run", "grid": grid, "seed": 0},
        "play_of_run": {"run": run, "grid": grid, "name": "run", "start": START, "seed": 0},
        "write_replay": {
            "plays": [vine.play_of_run(run, grid)],
            "grid": grid,
            "path": folder / "page.html",
            "costmap": costmap,
            "zones": site.zones,
        },
        "learn_prices": {**mapped, "ways": [vine.ShownWay.through("one", plan.poses)], "seed": 0},
        "compare_values": {"first": {0: 1.0, 1: 2.0}, "second": {0: 1.5, 1: 2.5}},
        "Trial": {"number": 0, "seed": 0, "values": {}},
        "read_study": {"folder": folder / "study"},
    }


def try_calls(names: tuple[str, ...] = ()) -> tuple[int, list[str]]:
    """Give each argument of each public call every other thing; return the calls, and which fell short."""
    count, fallen = 0, []
    with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
        for name, arguments in good_calls(Path(folder)).items():
            if names and name not in names:
                continue
            for key in arguments:
                for wrong, make in WRONG.items():
                    count += 1
                    told = _how_it_fell(getattr(vine, name), arguments | {key: make()})
                    if told:
                        fallen.append(f"{name}({key}={wrong}): {told}")
    return count, fallen


def _how_it_fell(call: Callable[..., Any], arguments: dict[str, Any]) -> str:
    with warnings.catch_warnings(record=True) as warned:
        warnings.simplefilter("always")
        try:
            call(**arguments)
        except VineCompassError:
            pass
        except Exception as error:
            where = traceback.extract_tb(error.__traceback__)[-1]
            told = " ".join(str(error).split())[:120]
            return f"{type(error).__name__}: {told} ({Path(where.filename).name}:{where.lineno})"
    return f"warns: {warned[0].message}" if warned else ""


def campaign(_count: int) -> int:
    """Try them all; print what fell short, and return how much."""
    count, fallen = try_calls()
    for line in fallen:
        print(line)
    print(f"{count} calls with wrong arguments: {len(fallen)} fell short")
    return len(fallen)
