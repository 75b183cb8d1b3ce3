"""Every writer killed at random moments: what stands is whole, old or new, and the next save leaves nothing besides."""

from __future__ import annotations

import os
import signal
import sys
import tempfile
import time
from collections.abc import Callable
from dataclasses import dataclass
from pathlib import Path
from typing import Any

import numpy as np
from PIL import Image

from benchmarks.robustness.originals import drive, map_of_the_room, robot
from vinecompass import (
    Grid,
    plan_path,
    price_floor,
    read_map_record,
    read_run,
    read_settings,
    read_site,
    read_track,
    site_from_map,
    write_map,
    write_plan,
    write_run,
    write_site,
    write_track,
)
from vinecompass.costs import write_costmap
from vinecompass.figures import draw_run, save_figure
from vinecompass.figures.film import save_film
from vinecompass.figures.report import write_report
from vinecompass.files import atomic_write
from vinecompass.grids import apply_edits, check_edits
from vinecompass.settings import settings_text
from vinecompass.tuning.shown_ways import read_shown_ways

__all__ = ["Writer", "campaign", "try_kills", "writers"]


@dataclass(frozen=True)
class Writer:
    """Writes one of two things to a place, and reads what is there as something that can be compared."""

    name: str
    write: Callable[[Path, int], Any]
    read: Callable[[Path], Any]


def writers() -> list[Writer]:
    """Return every writer."""
    runs = [drive(0), drive(1)]
    grid = map_of_the_room()
    other = Grid(np.where(grid.occupied, grid.log_odds, -1.0).astype(np.float32), grid.cell_size, grid.corner)
    costmaps = [price_floor(each, robot()) for each in (grid, other)]
    plans = [plan_path(costmaps[0], robot(), [1.5, 1.5, 0.0], [x, 1.5, 0.0]) for x in (4.0, 4.6)]
    lines = [{"do": "paint", "reading": "occupied", "line": [[1, y], [2, y]], "width": 0.05} for y in (2.0, 3.0)]
    painted = [check_edits([line]) for line in lines]

    figures = [draw_run(run) for run in runs]
    films = [[Image.new("RGB", (200, 150), (grey, frame, 90)) for frame in range(0, 250, 25)] for grey in (0, 200)]
    step = {"command": "map", "done": True, "quality": {}, "truth": {}, "files": {}}
    steps = [[step | {"message": f"{count} scans"}] for count in (1, 2)]

    def write_edited(path: Path, which: int) -> None:
        before = (grid, other)[which]
        edited, _ = apply_edits(before, painted[which], folder=path.parent)
        write_map(edited, path / "map.png", edits=painted[which], unedited=before)

    def read_edited(path: Path) -> tuple[object, ...]:
        record = read_map_record(path / "map.png")
        unedited = None if record.unedited is None else record.unedited.log_odds.tobytes()
        return record.grid.log_odds.tobytes(), unedited, record.painted, len(record.edits)

    return [
        Writer("map with its edits", write_edited, read_edited),
        Writer(
            "run",
            lambda path, which: write_run(runs[which], path / "run"),
            lambda path: read_run(path / "run").truth.poses.tobytes(),
        ),
        Writer(
            "run in CSV",
            lambda path, which: write_run(runs[which], path / "run", tables="csv"),
            lambda path: read_run(path / "run").scans.ranges.tobytes(),
        ),
        Writer(
            "site",
            lambda path, which: write_site(site_from_map(grid, [1.5 + which, 1.5, 0.0]), path / "s.toml"),
            lambda path: read_site(path / "s.toml").start,
        ),
        Writer(
            "track",
            lambda path, which: write_track(runs[which].truth, path / "track.csv"),
            lambda path: read_track(path / "track.csv").poses.tobytes(),
        ),
        Writer(
            "plan",
            lambda path, which: write_plan(plans[which], path / "plan.csv"),
            lambda path: read_shown_ways(path / "plan.csv", grid)[0].poses.tobytes(),
        ),
        Writer(
            "figure",
            lambda path, which: save_figure(figures[which], path / "run.png"),
            lambda path: (path / "run.png").read_bytes(),
        ),
        Writer(
            "film",
            lambda path, which: save_film(films[which], path / "film.gif", frame_ms=100),
            lambda path: (path / "film.gif").read_bytes(),
        ),
        Writer(
            "report",
            lambda path, which: write_report(steps[which], path / "report.html"),
            lambda path: (path / "report.html").read_bytes(),
        ),
        Writer(
            "costmap",
            lambda path, which: write_costmap(costmaps[which], path / "costmap.npz"),
            lambda path: np.load(path / "costmap.npz", allow_pickle=False)["prices"].tobytes(),
        ),
        Writer(
            "settings",
            lambda path, which: atomic_write(
                path / "settings.toml", settings_text({"costs.comfort": 0.3 + 0.1 * which})
            ),
            lambda path: read_settings(path / "settings.toml").costs.comfort,
        ),
    ]


def try_kills(writer: Writer, count: int, rng: np.random.Generator) -> list[str]:
    """Kill a writer as often at random moments; return what was lost, half-written or left behind."""
    fallen = []
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder)
        whole = []
        for which in (0, 1):
            begun = time.perf_counter()
            writer.write(path, which)
            took = time.perf_counter() - begun
            whole.append(writer.read(path))
        names = _names(path)
        for number in range(count):
            child = os.fork()
            if child == 0:
                _write_until_killed(writer, path)
            time.sleep(float(rng.uniform(0.0, 4.0 * took)))
            os.kill(child, signal.SIGKILL)
            os.waitpid(child, 0)
            found = _read(writer, path)
            if found not in whole:
                fallen.append(f"{writer.name}, kill {number}: {found!r:.200} stands there")
            writer.write(path, number % 2)
            if _names(path) != names:
                fallen.append(f"{writer.name}, kill {number}: left {sorted(_names(path) ^ names)}")
    return fallen


def try_two_at_once(writer: Writer, count: int) -> list[str]:
    """Let two processes write the same name at once, as often; return what did not stand there whole afterwards."""
    fallen = []
    with tempfile.TemporaryDirectory() as folder:
        path = Path(folder)
        whole = []
        for which in (0, 1):
            writer.write(path, which)
            whole.append(writer.read(path))
        for number in range(count):
            children = []
            for which in (0, 1):
                children.append(os.fork())
                if children[-1] == 0:
                    _write_and_end(writer, path, which)
            ends = [os.waitstatus_to_exitcode(os.waitpid(child, 0)[1]) for child in children]
            found = _read(writer, path)
            if any(ends) or found not in whole:
                fallen.append(f"{writer.name}, two at once, {number}: ended with {ends}, {found!r:.200} stands there")
    return fallen


def _read(writer: Writer, path: Path) -> Any:
    """Return what is there, or the error that says that it is not whole."""
    try:
        return writer.read(path)
    except Exception as error:
        return error


def _names(path: Path) -> set[str]:
    return {str(each.relative_to(path)) for each in path.rglob("*")}


def _write_until_killed(writer: Writer, path: Path) -> None:
    which = 0
    while True:
        writer.write(path, which)
        which = 1 - which


def _write_and_end(writer: Writer, path: Path, which: int) -> None:
    status = 1
    try:
        for _ in range(5):
            writer.write(path, which)
        status = 0
    except BaseException as error:
        print(repr(error), file=sys.stderr)
    finally:
        os._exit(status)


def campaign(count: int) -> int:
    """Kill each writer, so often in all, and let two write at once; print what fell short, return how much."""
    fallen = []
    every = writers()
    for number, writer in enumerate(every):
        share = count * (number + 1) // len(every) - count * number // len(every)
        fallen += try_kills(writer, share, np.random.default_rng(number))
        fallen += try_two_at_once(writer, share // 5)
    for line in fallen:
        print(line)
    print(f"{count} kills and {count // 5} pairs of writers: {len(fallen)} fell short")
    return len(fallen)
