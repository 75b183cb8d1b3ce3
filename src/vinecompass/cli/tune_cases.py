"""What vinecompass tune is given, and what it tries: a round to be driven, recorded runs, or plans on a map."""

from __future__ import annotations

import json
from dataclasses import dataclass
from pathlib import Path
from typing import TYPE_CHECKING

from vinecompass.cli.common import load_map, load_map_record, load_settings, load_site, read_round_or_stop
from vinecompass.errors import InputError

if TYPE_CHECKING:
    from vinecompass.tuning import Case, MissionCase, PlanCase

__all__ = ["TuneOptions", "case_of"]

MAPS = (".png", ".pgm")
"""How files end that are maps, and no sites."""
HELD_BACK = 3
"""Runs that confirm what was chosen on the others, where there are more: a map has no other seeds."""


@dataclass(frozen=True)
class TuneOptions:
    """What the command is given, as its help tells."""

    site: Path | None = None
    robot: Path | None = None
    map_path: Path | None = None
    goal: str | None = None
    round_path: Path | None = None
    varied: tuple[str, ...] = ()
    against: Path | None = None
    design: str = "spread"
    objectives: tuple[str, ...] = ()
    trials: int = 64
    seeds: int = 4
    wants: tuple[str, ...] = ()
    replay: int | None = None
    workers: int | None = None
    cluster: str | None = None
    time_limit: float = 300.0
    shown: tuple[Path, ...] = ()
    runs: tuple[Path, ...] = ()
    out: Path | None = None
    listed: bool = False
    explained: Path | None = None
    settings: Path | None = None
    seed: int = 0
    picture: Path | None = None


def case_of(given: TuneOptions) -> tuple[Case, dict[str, str]]:
    """Return what the trials share, and what tells the study from others."""
    needed = {"-o": given.out}
    if not given.runs:
        needed = {"SITE": given.site, "--robot": given.robot, **needed}
        if given.site is None or not (given.site.is_dir() or _is_map(given.site)):
            needed["--map"] = given.map_path
    for name, value in needed.items():
        if value is None:
            raise InputError("is needed", key=name, expected="a path, or --list, or --explain STUDY")
    if bool(given.varied) == (given.against is not None):
        expected = "a setting (`vinecompass tune --list` names them), or --against and another settings file"
        raise InputError("nothing is varied, or two things at once", key="--vary", expected=expected)
    case = _recorded(given) if given.runs else _planned(given) if _is_map(given.site) else _mission(given)
    seeds, sites = given.seeds, _sites(given)
    if sites and given.against is not None:
        raise InputError("is for one site", key="--against", value=given.against, expected="no folder of sites")
    if sites and seeds % len(sites):
        expected = f"as many in each of {len(sites)} sites: {len(sites) * -(-seeds // len(sites))}"
        raise InputError("do not go round", key="--seeds", value=seeds, expected=expected)
    if case.kind == "mapping":
        seeds = len(given.runs) - (HELD_BACK if len(given.runs) > HELD_BACK else 0)
    made_of = {name: _digest(path) for name, path in _inputs(given).items()}
    made_of |= {
        "kind": case.kind,
        "to": given.goal or "",
        "vary": " ".join(given.varied),
        "design": given.design,
        "trials": str(given.trials),
        "seeds": str(seeds),
        "seed": str(given.seed),
        "time_limit": f"{given.time_limit:g}",
    }
    if given.objectives:
        made_of["objectives"] = " ".join(given.objectives)
    if sites:
        made_of["sites"] = json.dumps([site.name for site in sites])
    return case, made_of


def _is_map(path: Path | None) -> bool:
    return path is not None and path.suffix.lower() in MAPS


def _planned(given: TuneOptions) -> PlanCase:
    """Return the plans to be made on a map."""
    from vinecompass.robot import read_robot
    from vinecompass.tuning import PlanCase

    assert given.site is not None and given.robot is not None
    for name, value in (("--map", given.map_path), ("--to", given.goal), ("--round", given.round_path)):
        if value is not None:
            raise InputError("is for a site that is driven in", key=name, value=value, expected="a site.toml as SITE")
    return PlanCase(load_map(given.site), read_robot(given.robot), load_settings(given.settings))


def _mission(given: TuneOptions) -> Case:
    """Return the round to be driven; or one in each site of a folder."""
    from vinecompass.tuning import MissionCases

    assert given.site is not None and given.robot is not None
    sites = _sites(given)
    if not sites:
        assert given.map_path is not None
        return _in_site(given, given.site, given.map_path)
    if given.map_path is not None:
        raise InputError("belongs to one site", key="--map", value=given.map_path, expected="a map.png in each folder")
    return MissionCases(tuple(_in_site(given, folder / "site.toml", folder / "map.png") for folder in sites))


def _sites(given: TuneOptions) -> list[Path]:
    """Return the folders of the sites, if SITE is a folder of them."""
    if given.runs or given.site is None or not given.site.is_dir():
        return []
    found = sorted(path.parent for path in given.site.glob("*/site.toml"))
    if not found:
        raise InputError("holds no sites", file=given.site, expected="folders with a site.toml and a map.png each")
    return found


def _in_site(given: TuneOptions, site_path: Path, map_path: Path) -> MissionCase:
    from vinecompass.robot import read_robot
    from vinecompass.tuning import MissionCase

    assert given.robot is not None
    mapped = load_map_record(map_path)
    site = load_site(site_path, mapped.zones)
    return MissionCase(
        site,
        read_robot(given.robot),
        mapped.grid,
        read_round_or_stop(given.goal, given.round_path, site),
        load_settings(given.settings),
        given.time_limit,
    )


def _recorded(given: TuneOptions) -> Case:
    """Return the runs to be localized on the map, or mapped if there is none."""
    from vinecompass.fusion import usual_odometry
    from vinecompass.runs import cleaned, read_run
    from vinecompass.tuning import LocalizationCase, MappingCase, locate_run

    settings = load_settings(given.settings)
    runs = tuple(cleaned(read_run(path, as_recorded=True))[0] for path in given.runs)
    odometry = tuple(usual_odometry(run, settings=settings.fusion) for run in runs)
    if given.site is None:
        return MappingCase(runs, odometry, settings)
    grid = load_map(given.site)
    starts = tuple(
        locate_run(grid, run, track, path)[0] for run, track, path in zip(runs, odometry, given.runs, strict=True)
    )
    return LocalizationCase(grid, runs, odometry, settings, starts)


def _inputs(given: TuneOptions) -> dict[str, Path]:
    named = {
        "map" if given.runs or _is_map(given.site) else "site": given.site,
        "robot": given.robot,
        "round": given.round_path,
        "settings": given.settings,
        "against": given.against,
    }
    if given.map_path is not None:
        named["map"] = given.map_path
    for folder in _sites(given):
        named.pop("site", None)
        named |= {f"site {folder.name}": folder / "site.toml", f"map {folder.name}": folder / "map.png"}
    named |= {f"run {number}": path for number, path in enumerate(given.runs)}
    return {name: path for name, path in named.items() if path is not None}


def _digest(path: Path) -> str:
    """Return the name of a file, or of a run's folder, and the beginning of the SHA-256 of all that it holds."""
    import hashlib

    from vinecompass.files import read_bytes

    whole = hashlib.sha256()
    for file in sorted(path.iterdir()) if path.is_dir() else [path]:
        if file.is_file():
            whole.update(read_bytes(file, largest=2**33))
    return f"{path.name} {whole.hexdigest()[:16]}"
