"""The replay: one self-contained page that plays one thing or two, over each other or side by side."""

from __future__ import annotations

import json
from collections.abc import Callable, Sequence
from pathlib import Path
from typing import Any

import numpy as np
from numpy.typing import NDArray

from vinecompass.costs import CostMap
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.files import REPLAY, REPLAY_BY, atomic_write, check_suffix
from vinecompass.grids import Grid, Zone
from vinecompass.pages.floor import page, told_floor
from vinecompass.pages.packing import Packer
from vinecompass.pages.plays import Play, scan_points
from vinecompass.settings import NamedPose
from vinecompass.simulation import parse_site

__all__ = ["write_replay"]

FloatArray = NDArray[np.float64]
MOST_PLAYS = 2


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
    title = "; ".join(play.finding for play in plays)
    packer = Packer(grid.corner_points)
    own_zones, stops = _site(plays[0])
    document = told_floor(title, grid, packer, costmap=costmap, zones=[*zones, *own_zones], stops=stops)
    return atomic_write(path, _page(title, document | {"plays": [_play(play, packer) for play in plays]}))


def _page(title: str, document: dict[str, Any]) -> str:
    """Return the page: what is told is data, and never becomes part of its script."""
    data = json.dumps(document, allow_nan=False, separators=(",", ":")).replace("<", "\\u003c")
    head = (
        f'<meta name="generator" content="{REPLAY_BY}">'
        '<meta http-equiv="Content-Security-Policy" content="default-src \'none\'; img-src data:; '
        "style-src 'unsafe-inline'; script-src 'unsafe-inline'\">"
    )
    return page(title, "replay", head=head, data=f'<script type="application/json" id="data">{data}</script>')


def _site(play: Play) -> tuple[list[Zone], list[NamedPose]]:
    """Return the zones and the stops of the site that a run keeps, if it keeps one."""
    if play.run.site_toml is None:
        return [], []
    site = parse_site(play.run.site_toml)
    return list(site.zones), list(site.stops)


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
        "shut": [each.shut_out for each in moments],
        "scan": packer.ragged(scan_points(play)),
        "events": [{"t": each.t - begin, "kind": each.kind, "text": each.text} for each in play.events],
        "plans": [{"t": when - begin, "poses": plan[:, :2].round(3).tolist()} for when, plan in play.plans],
    }
    parts: dict[str, Callable[[Any], FloatArray]] = {
        "obstacles": lambda each: each.obstacles,
        "local": lambda each: each.local[:, :2],
        "candidates": lambda each: each.candidates.reshape(-1, 2),
        "people": lambda each: each.walks,
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
