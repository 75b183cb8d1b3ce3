"""The floor as pages hold it: pictures of the map and of its prices, zones, stops, and the parts of a page."""

from __future__ import annotations

import base64
import io
from collections.abc import Sequence
from html import escape
from importlib.resources import files
from typing import Any

import numpy as np
from matplotlib.colors import to_rgba
from numpy.typing import NDArray
from PIL import Image

from vinecompass.costs import CostMap
from vinecompass.figures import canvas
from vinecompass.figures.cost_figure import price_colours, top_price
from vinecompass.grids import Grid, Zone
from vinecompass.pages.packing import Packer
from vinecompass.settings import NamedPose

__all__ = ["page", "told_floor"]

PRICE_CODES = 254
"""Steps of the prices in the picture of facts, by factors, from 1 to the dearest."""
COLOURS = (
    "PAPER",
    "SAND",
    "AUBERGINE",
    "STRAW",
    "RUST",
    "BURGUNDY",
    "SLATE",
    "OLIVE",
    "TEAL",
    "SAFFRON",
    "CORAL",
    "CHARCOAL",
    "GREY",
)


def page(title: str, name: str, *, head: str = "", data: str = "") -> str:
    """Return a page by its name: its own body and script, and the script and style that all pages share.

    Parameters
    ----------
    title, name : str
    head : str
        Besides what all have.
    data : str
        Elements before the scripts.
    """
    body, shared, script, style = (_part(each) for each in (f"{name}.html", "floor.js", f"{name}.js", "page.css"))
    return (
        f'<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8">{head}'
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>{escape(title)}</title><style>{style}</style></head><body>{body}{data}"
        f"<script>{shared}</script><script>{script}</script></body></html>\n"
    )


def _part(name: str) -> str:
    return (files("vinecompass.pages") / name).read_text(encoding="utf-8")


def told_floor(
    title: str,
    grid: Grid,
    packer: Packer,
    *,
    costmap: CostMap | None = None,
    zones: Sequence[Zone] = (),
    stops: Sequence[NamedPose] = (),
) -> dict[str, Any]:
    """Return all of the floor that a page holds."""
    return {
        "title": title,
        "colours": {name.lower(): getattr(canvas, name) for name in COLOURS},
        "unit": packer.unit,
        "origin": packer.origin.tolist(),
        "map": _map(grid, costmap),
        "zones": [_zone(zone) for zone in zones],
        "stops": [{"name": stop.name, "pose": stop.site_pose.tolist()} for stop in stops],
    }


def _map(grid: Grid, costmap: CostMap | None) -> dict[str, Any]:
    """Return pictures of the map and of its prices, and where they lie."""
    colours = np.zeros((*grid.shape, 4), np.uint8)
    colours[grid.free] = _bytes(canvas.PAPER)
    colours[grid.occupied] = _bytes(canvas.AUBERGINE)
    told: dict[str, Any] = {
        "cell": grid.cell_size,
        "corner": list(map(float, grid.corner)),
        "turn": float(grid.turn),
        "rows": grid.shape[0],
        "columns": grid.shape[1],
        "picture": _png(colours),
    }
    if costmap is None:
        return told
    top = top_price(costmap)
    priced = np.round(255.0 * price_colours(grid, costmap.prices, top)).astype(np.uint8)
    return told | {"prices": _png(priced), "facts": _png(_facts(costmap, top)), "top": top}


def _facts(costmap: CostMap, top: float) -> NDArray[np.uint8]:
    """Return a picture that is read and not shown: each cell's clearance, cm, in two bytes, and a code of its price."""
    finite = np.isfinite(costmap.prices)
    centimetres = np.clip(np.round(100.0 * costmap.clearance), 0, 65535).astype(np.uint16)
    codes = np.zeros(finite.shape, np.uint8)
    share = np.log(np.maximum(costmap.prices[finite], 1.0)) / np.log(top)
    codes[finite] = 1 + np.round(PRICE_CODES * share).astype(np.uint8)
    opaque = np.full(finite.shape, 255, np.uint8)
    return np.stack([(centimetres >> 8).astype(np.uint8), (centimetres & 255).astype(np.uint8), codes, opaque], axis=-1)


def _png(colours: NDArray[np.uint8]) -> str:
    """Return a picture whose first row is the lowest one of the floor, as a page keeps it."""
    kept = io.BytesIO()
    Image.fromarray(colours[::-1]).save(kept, "PNG", compress_level=6)
    return "data:image/png;base64," + base64.b64encode(kept.getvalue()).decode("ascii")


def _bytes(colour: str) -> NDArray[np.uint8]:
    return np.round(255.0 * np.array(to_rgba(colour))).astype(np.uint8)


def _zone(zone: Zone) -> dict[str, Any]:
    told = {
        "dear": f"price x {zone.factor:g}",
        "slow": f"at most {zone.speed} m/s",
        "one-way": f"{zone.heading_deg} degrees",
    }
    return {"name": zone.name, "kind": zone.kind, "polygon": zone.polygon, "told": told.get(zone.kind, "")}
