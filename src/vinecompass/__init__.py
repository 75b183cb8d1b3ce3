"""Vine Compass: maps, localizes, plans and drives a wheeled robot indoors, and says why when it cannot.

Names are loaded when they are first used, so that importing the package costs next to nothing.
"""

from __future__ import annotations

import sys
from importlib import import_module
from typing import Any

from vinecompass.compiled_code import choose_place

__version__ = "0.1.0"

_HOMES = {
    "vinecompass.errors": ("InputError", "VineCompassError"),
    "vinecompass.data": ("demo_file",),
    "vinecompass.settings": ("Settings", "read_settings"),
    "vinecompass.robot": ("Robot", "read_robot"),
    "vinecompass.motion": ("Command", "MotionLimits", "limits_of"),
    "vinecompass.contact": ("Walking",),
    "vinecompass.runs": (
        "Run",
        "Scan",
        "Track",
        "compare_relations",
        "compare_tracks",
        "read_run",
        "read_track",
        "write_run",
        "write_track",
    ),
    "vinecompass.importing": ("TableFormat", "guess_format", "import_run"),
    "vinecompass.grids": (
        "Grid",
        "Zone",
        "apply_edits",
        "clearance",
        "grid_from_drawing",
        "grid_from_picture",
        "grid_from_plan",
        "read_floor_plan",
        "grid_from_polygons",
        "read_map",
        "read_map_record",
        "read_zones",
        "write_map",
    ),
    "vinecompass.judging": ("MapComparison", "MapQuality", "align_maps", "compare_maps", "judge_map", "measure_map"),
    "vinecompass.odometry": ("LaserOdometry", "SweepMotion", "dead_reckon"),
    "vinecompass.fusion": ("Calibration", "Fused", "OdometryFusion", "estimate_mount", "fuse"),
    "vinecompass.health": ("Health", "check"),
    "vinecompass.costs": ("CostMap", "LiveCosts", "price_floor"),
    "vinecompass.simulation": ("Simulator", "Site", "read_site", "site_from_map", "write_site"),
    "vinecompass.mapping": ("Mapper", "Mapping", "build_map"),
    "vinecompass.localization": ("Estimate", "Localization", "ParticleLocalizer", "Place", "find_places", "localize"),
    "vinecompass.planning": (
        "CostToGo",
        "DubinsMotion",
        "Plan",
        "Problem",
        "ReedsSheppMotion",
        "Roadmap",
        "StraightMotion",
        "Way",
        "compare_planners",
        "find_narrow_places",
        "plan_path",
        "write_plan",
    ),
    "vinecompass.following": ("LocalPlan", "LocalPlanner", "PathFollower", "TimeBand", "VelocityWindow"),
    "vinecompass.navigation": (
        "GlobalPlanner",
        "MissionLog",
        "Navigator",
        "Recovery",
        "Round",
        "StopGoal",
        "read_round",
        "warm_up",
    ),
    "vinecompass.links": ("Readings", "RecordedLink", "RobotLink", "SimulatedLink"),
    "vinecompass.rehearsal": ("MomentLog", "Rehearsal", "record_drive", "rehearse", "rehearse_mission"),
    "vinecompass.tuning": (
        "LocalizationCase",
        "MappingCase",
        "MissionCase",
        "PlanCase",
        "ShownWay",
        "Study",
        "StudyRun",
        "Trial",
        "compare_settings",
        "compare_values",
        "learn_prices",
        "read_study",
    ),
    "vinecompass.figures": ("draw",),
    "vinecompass.pages": (
        "Live",
        "LiveRecording",
        "Play",
        "play_of_mapping",
        "play_of_mission",
        "play_of_run",
        "read_play",
        "record_live",
        "run_live",
        "write_replay",
    ),
}
_HOME_OF = {name: home for home, names in _HOMES.items() for name in names}

__all__ = ["__version__", *_HOME_OF]

choose_place()

SHOWN = (
    ("vinecompass.grids.grid", "Grid"),
    ("vinecompass.costs.costmap", "CostMap"),
    ("vinecompass.planning.plan", "Plan"),
    ("vinecompass.runs.run", "Run"),
    ("vinecompass.simulation.site", "Site"),
    ("vinecompass.rehearsal.rehearsal", "Rehearsal"),
    ("vinecompass.tuning.study", "Study"),
)
"""What is drawn where it is the value of a notebook's cell."""


def _drawn(thing: Any) -> bytes:
    drawn: bytes = import_module("vinecompass.figures").drawn_for_notebook(thing)
    return drawn


def _written(thing: Any) -> str:
    written: str = import_module("vinecompass.figures").html_for_notebook(thing)
    return written


def _show_in_notebook(shell: Any) -> None:
    """Let a notebook draw what it shows; by their names, so that nothing is imported before there is one."""
    for home, name in SHOWN:
        shell.display_formatter.formatters["image/png"].for_type_by_name(home, name, _drawn)
        shell.display_formatter.formatters["text/html"].for_type_by_name(home, name, _written)


if "IPython" in sys.modules and (shell := sys.modules["IPython"].get_ipython()) is not None:
    _show_in_notebook(shell)


def __getattr__(name: str) -> Any:
    if name not in _HOME_OF:
        raise AttributeError(f"module 'vinecompass' has no attribute {name!r}")
    value = getattr(import_module(_HOME_OF[name]), name)
    globals()[name] = value
    return value


def __dir__() -> list[str]:
    return sorted(__all__)
