"""Plan files: CSV, or a GeoJSON LineString."""

from __future__ import annotations

import json
from pathlib import Path

from vinecompass.errors import InputError
from vinecompass.files import atomic_write
from vinecompass.planning.plan import Plan

__all__ = ["write_plan"]


def write_plan(plan: Plan, path: str | Path) -> Path:
    """Write a plan, atomically: CSV with the columns ``x, y, heading`` (m, radians), or GeoJSON in site metres."""
    path = Path(path)
    if path.suffix == ".csv":
        rows = [",".join(f"{value:.6f}" for value in pose) for pose in plan.poses]
        return atomic_write(path, "\n".join(["x,y,heading", *rows]) + "\n")
    if path.suffix == ".geojson":
        line = {"type": "LineString", "coordinates": plan.poses[:, :2].round(6).tolist()}
        properties = {"cost_m": plan.cost, "length_m": plan.length, "headings": plan.poses[:, 2].round(6).tolist()}
        return atomic_write(path, json.dumps({"type": "Feature", "geometry": line, "properties": properties}))
    raise InputError("is not a plan's name", file=path, expected="a name that ends in .csv or .geojson")
