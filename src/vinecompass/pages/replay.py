"""The replay: one self-contained page that plays one thing or two, over each other or side by side."""

from __future__ import annotations

import base64
import io
import json
from collections.abc import Callable, Sequence
from html import escape
from importlib.resources import files
from pathlib import Path
from typing import Any

import numpy as np
from matplotlib.colors import LinearSegmentedColormap, to_rgba
from numpy.typing import NDArray
from PIL import Image

from vinecompass.costs import CostMap
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.figures import canvas
from vinecompass.figures.cost_figure import PRICE_COLOURS
from vinecompass.files import REPLAY, REPLAY_BY, atomic_write, check_suffix
from vinecompass.geometry import transform_points
from vinecompass.grids import Grid, Zone
from vinecompass.odometry import deskewed_hits, motions
from vinecompass.pages.packing import Packer
from vinecompass.pages.plays import Play
from vinecompass.rehearsal.moments import some_of
from vinecompass.runs import Track, rows_of
from vinecompass.settings import NamedPose
from vinecompass.simulation import parse_site

__all__ = ["write_replay"]

FloatArray = NDArray[np.float64]
MOST_PLAYS = 2
SCAN_POINTS = 180
"""Most of a scan's points that are drawn."""
PRICE_CODES = 254
"""Steps of the prices in the picture of facts, by factors, from 1 to the dearest."""
COLOURS = {
    name.lower(): getattr(canvas, name)
    for name in (
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
}


@checked
def write_replay(
    plays: Sequence[Play], grid: Grid, path: str | Path, *, costmap: CostMap | None = None, zones: Sequence[Zone] = ()
) -> Path:
    """Write the page that plays one thing, or two with one slider, atomically.

    Everything is in the page: it opens from disk without a network, loads nothing and sends nothing.

    Parameters
    ----------
    plays : sequence of Play
        One or two.
    grid : Grid
        The map that they are drawn on.
    path : str or Path
        The HTML file.
    costmap : CostMap, optional
        Of the same map: its prices are a layer, and are told of any cell.
    zones : sequence of Zone
        Besides those of the plays' site.

    Raises
    ------
    InputError
        There is nothing to play or more than two things, the name does not end in ``.html``, or the costmap is of
        another map.
    """
    check_suffix(path, ".html", REPLAY)
    if not 1 <= len(plays) <= MOST_PLAYS:
        raise InputError("are too few or too many", key="plays", value=len(plays), expected="one or two")
    if costmap is not None and costmap.grid.shape != grid.shape:
        raise InputError("is of another map", key="costmap", value=costmap.grid.shape, expected=f"{grid.shape} cells")
    packer = Packer(grid.corner_points)
    title = "; ".join(play.finding for play in plays)
    document = {
        "title": title,
        "colours": COLOURS,
        "unit": packer.unit,
        "origin": packer.origin.tolist(),
        "map": _map(grid, costmap),
        "zones": [_zone(zone) for zone in [*zones, *_site(plays[0])[0]]],
        "stops": [{"name": stop.name, "pose": stop.site_pose.tolist()} for stop in _site(plays[0])[1]],
        "plays": [_play(play, packer) for play in plays],
    }
    return atomic_write(path, _page(title, document))


def _page(title: str, document: dict[str, Any]) -> str:
    """Return the page: what is told is data, and never becomes part of its script."""
    here = files("vinecompass.pages")
    data = json.dumps(document, allow_nan=False, separators=(",", ":")).replace("<", "\\u003c")
    style, script, body = ((here / f"replay.{kind}").read_text(encoding="utf-8") for kind in ("css", "js", "html"))
    return (
        f'<!DOCTYPE html>\n<html lang="en"><head><meta charset="utf-8"><meta name="generator" content="{REPLAY_BY}">'
        '<meta http-equiv="Content-Security-Policy" content="default-src \'none\'; img-src data:; '
        "style-src 'unsafe-inline'; script-src 'unsafe-inline'\">"
        '<meta name="viewport" content="width=device-width, initial-scale=1">'
        f"<title>{escape(title)}</title><style>{style}</style></head><body>{body}"
        f'<script type="application/json" id="data">{data}</script><script>{script}</script></body></html>\n'
    )


def _site(play: Play) -> tuple[list[Zone], list[NamedPose]]:
    """Return the zones and the stops of the site that a run keeps, if it keeps one."""
    if play.run.site_toml is None:
        return [], []
    site = parse_site(play.run.site_toml)
    return list(site.zones), list(site.stops)


def _zone(zone: Zone) -> dict[str, Any]:
    told = {
        "dear": f"price x {zone.factor:g}",
        "slow": f"at most {zone.speed} m/s",
        "one-way": f"{zone.heading_deg} degrees",
    }
    return {"name": zone.name, "kind": zone.kind, "polygon": zone.polygon, "told": told.get(zone.kind, "")}


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
    finite = np.isfinite(costmap.prices)
    top = max(float(costmap.prices.max(initial=2.0, where=finite)), 1.001)
    return told | {
        "prices": _png(_priced(grid, costmap, finite, top)),
        "facts": _png(_facts(costmap, finite, top)),
        "top": top,
    }


def _priced(grid: Grid, costmap: CostMap, finite: NDArray[np.bool_], top: float) -> NDArray[np.uint8]:
    """Return the picture of the prices, closed floor cross-hatched."""
    colours = np.zeros((*grid.shape, 4), np.uint8)
    scale: LinearSegmentedColormap = PRICE_COLOURS
    dear = finite & (costmap.prices > 1.0)
    colours[dear] = np.round(255.0 * scale((costmap.prices[dear] - 1.0) / (top - 1.0))).astype(np.uint8)
    rows, columns = np.nonzero(~finite & grid.free)
    crossed = ((rows + columns) % 8 == 0) | ((rows - columns) % 8 == 0)
    colours[rows, columns] = np.where(crossed[:, None], _bytes("#A8637B"), _bytes(canvas.BURGUNDY))
    return colours


def _facts(costmap: CostMap, finite: NDArray[np.bool_], top: float) -> NDArray[np.uint8]:
    """Return a picture that is read and not shown: each cell's clearance, cm, in two bytes, and a code of its price."""
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


def _play(play: Play, packer: Packer) -> dict[str, Any]:
    """Return what is played: columns of numbers, a row a moment, and what varies in length packed."""
    moments, t, poses = play.moments, play.t, play.poses
    covariances = np.array([each.covariance for each in moments])
    begin = float(t[0])
    told: dict[str, Any] = {
        "name": play.name,
        "finding": play.finding,
        "begin": begin,
        "grows": play.grows,
        "outline": np.asarray(play.run.robot.body.polygon, float).round(3).tolist(),
        "t": packer.numbers(t - begin),
        "poses": packer.numbers(poses),
        "covariances": packer.numbers(covariances.reshape(-1, 4)[:, [0, 1, 3]]),
        "speed": packer.numbers(np.array([(each.speed, each.turn_rate) for each in moments])),
        "left": packer.numbers(np.array([each.left for each in moments])),
        "states": [each.state for each in moments],
        "reasons": [each.reason for each in moments],
        "rules": [each.people_rules for each in moments],
        "scan": packer.ragged(_scans(play)),
        "events": [{"t": each.t - begin, "kind": each.kind, "text": each.text} for each in play.events],
        "plans": [{"t": when - begin, "poses": plan[:, :2].round(3).tolist()} for when, plan in play.plans],
    }
    parts: dict[str, Callable[[Any], FloatArray]] = {
        "obstacles": lambda each: each.obstacles,
        "local": lambda each: each.local[:, :2],
        "candidates": lambda each: each.candidates.reshape(-1, 2),
        "people": lambda each: np.concatenate(
            [each.people[:, :2], each.people[:, :2] + each.people[:, 3:]], axis=1
        ).reshape(-1, 2),
        "cloud": lambda each: each.cloud[:, :2],
    }
    told |= {name: packer.ragged([part(each) for each in moments]) for name, part in parts.items()}
    told["headings"] = packer.headings([each.cloud[:, 2] for each in moments])
    told["radii"] = [each.people[:, 2].round(2).tolist() for each in moments]
    told["candidate_poses"] = [each.candidates.shape[1] for each in moments]
    if play.run.truth is not None:
        true = play.run.truth.at(np.clip(t, play.run.truth.t[0], play.run.truth.t[-1]))
        told |= {"truth": packer.numbers(true), "error": packer.numbers(np.hypot(*(true - poses)[:, :2].T))}
    return told


def _scans(play: Play) -> list[FloatArray]:
    """Return some of the points of the scan nearest before each moment, where the poses then place them."""
    scans, lidar = play.run.scans, play.run.robot.scanner
    if scans is None:
        return [np.zeros((0, 2))] * len(play.moments)
    at = np.clip(np.searchsorted(scans.t, play.t + 1e-6) - 1, 0, len(scans.t) - 1)
    used, which = np.unique(at, return_inverse=True)
    chosen = rows_of(scans, used)
    points = [
        transform_points(moved.pose, some_of(deskewed_hits(ranges, lidar, moved.sweep), SCAN_POINTS))
        for moved, ranges in zip(motions(Track(play.t, play.poses), chosen, lidar), chosen.ranges, strict=True)
    ]
    return [points[k] for k in which]
