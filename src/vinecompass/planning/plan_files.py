"""Plan files: CSV, or a GeoJSON LineString."""

from __future__ import annotations

import json
from collections.abc import Sequence
from pathlib import Path

import numpy as np

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.files import atomic_write
from vinecompass.planning.plan import Plan

__all__ = ["write_plan"]


@checked
def write_plan(plan: Plan | Sequence[Plan], path: str | Path) -> Path:
    """Write a plan, or the legs of a round one after the other, atomically.

    CSV has the columns ``x, y, heading`` (m, radians); GeoJSON is in site metres.
    """
    path = Path(path)
    legs = [plan] if isinstance(plan, Plan) else list(plan)
    if not legs:
        raise InputError("is empty", key="plan", expected="a Plan, or one for each leg")
    poses = np.vstack([legs[0].poses, *(leg.poses[1:] for leg in legs[1:])])
    if path.suffix == ".csv":
        rows = [",".join(f"{value:.6f}" for value in pose) for pose in poses]
        return atomic_write(path, "\n".join(["x,y,heading", *rows]) + "\n")
    if path.suffix == ".geojson":
        line = {"type": "LineString", "coordinates": poses[:, :2].round(6).tolist()}
        properties = {
            "cost_m": sum(leg.cost for leg in legs),
            "length_m": sum(leg.length for leg in legs),
            "headings": poses[:, 2].round(6).tolist(),
        }
        return atomic_write(path, json.dumps({"type": "Feature", "geometry": line, "properties": properties}))
    raise InputError("is not a plan's name", file=path, expected="a name that ends in .csv or .geojson")
