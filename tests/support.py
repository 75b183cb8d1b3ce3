"""What the tests share: the demo robot and site, one short recorded run, and the command line run in-process."""

from __future__ import annotations

import atexit
import contextlib
import fcntl
import functools
import io
import json
import os
import shutil
import sys
import tempfile
from pathlib import Path
from unittest import mock

import numpy as np

from vinecompass import Grid, InputError, Robot, build_map, demo_file, read_robot, read_site, record_drive
from vinecompass.cli import main

SHARED = "VINECOMPASS_TESTS_SHARED"
"""Environment variable: a folder that all processes of one call of ``python -m tests`` share."""
DRY_ROUTE = [
    (36.9, 24.6),
    (36.9, 18.5),
    (29.0, 18.5),
    (28.2, 22.5),
    (24.5, 23.6),
    (28.2, 23.6),
    (28.2, 18.5),
    (36.9, 18.5),
    (36.9, 22.0),
]
SHORT_ROUTE = [(36.9, 24.6), (36.9, 18.5), (29.0, 18.5)]


@functools.cache
def robot():
    return read_robot(demo_file("robot.toml"))


@functools.cache
def clockwise_robot():
    """The demo robot with a scanner that spins the other way."""
    return altered_robot(robot(), lidar={"first_beam_deg": 135.0, "last_beam_deg": -135.0})


@functools.cache
def site():
    return read_site(demo_file("site.toml"))


@functools.cache
def short_run():
    """Seventeen metres from the loading dock into the gallery."""
    return record_drive(site(), robot(), SHORT_ROUTE, seed=3, site_toml=demo_file("site.toml").read_text())


@functools.cache
def loop_run():
    """Sixty metres twice round the wall between dock and gallery's end, on dry floor."""
    lap = [(36.9, 24.6), (36.9, 18.5), (29.0, 18.5), (28.2, 22.5), (29.8, 24.0), (30.0, 25.5), (34.0, 25.4)]
    return record_drive(site(), robot(), [*lap, *lap[:4]], seed=6, site_toml=demo_file("site.toml").read_text())


@functools.cache
def dry_run():
    """Forty metres on dry floor, with curves to both sides."""
    return record_drive(site(), robot(), DRY_ROUTE, seed=5)


@functools.cache
def wet_run():
    """The demo's drive over the wet floor, where the wheels slip for a minute."""
    return record_drive(site(), robot(), site().find_route("wet floor").points, seed=1)


def true_slip(run) -> np.ndarray:
    """The stamps of a simulated run's wheel readings at which the rims run 0.08 m/s off the ground, by the truth."""
    t = run.wheels.t[25:-25]
    rims = (run.wheels.angles[50:] - run.wheels.angles[:-50]).mean(axis=1) * run.robot.drive.wheel_radius
    way = np.hypot(*(run.truth.at(t + 0.5) - run.truth.at(t - 0.5))[:, :2].T)
    return t[np.abs(rims - way) > 0.08]


def altered_robot(base: Robot, **tables: dict) -> Robot:
    """Return a robot with some keys of some tables changed."""
    document = base.model_dump(exclude_none=True)
    for table, keys in tables.items():
        place = document["lidars"][0] if table == "lidar" else document.setdefault(table, {})
        place |= keys
    return Robot.model_validate(document)


@functools.cache
def short_mapping():
    return build_map(short_run())


@functools.cache
def scratch() -> Path:
    """A folder that lives as long as the test process."""
    folder = Path(tempfile.mkdtemp(prefix="vinecompass-tests-"))
    atexit.register(shutil.rmtree, folder, ignore_errors=True)
    return folder


def new_folder() -> Path:
    return Path(tempfile.mkdtemp(dir=scratch()))


@functools.cache
def demo() -> tuple[Path, dict]:
    """The whole demo, run once for all tests of all processes, and what it printed."""
    shared = Path(os.environ.get(SHARED, scratch()))
    folder, printed = shared / "demo-out", shared / "demo.json"
    with (shared / "demo.lock").open("w") as lock:
        fcntl.flock(lock, fcntl.LOCK_EX)
        if not printed.exists():
            status, told, _ = run("demo", "-o", folder, "--json")
            assert status == 0, told
            printed.write_text(told)
    return folder, json.loads(printed.read_text())


def run(*arguments: object) -> tuple[int, str, str]:
    """Run the command line in this process; return exit status, standard output and standard error."""
    out, err = io.StringIO(), io.StringIO()
    words = ["vinecompass", *map(str, arguments)]
    with mock.patch.object(sys, "argv", words), contextlib.redirect_stdout(out), contextlib.redirect_stderr(err):
        try:
            main()
        except SystemExit as end:
            return int(end.code or 0), out.getvalue(), err.getvalue()
    raise AssertionError("the command line always exits")


def room(width: float = 6.0, height: float = 4.0, cell_size: float = 0.05) -> Grid:
    """A free rectangular room with walls one cell thick, its lowest corner at the origin."""
    log_odds = np.full((round(height / cell_size), round(width / cell_size)), -3.0, np.float32)
    log_odds[[0, -1]] = 3.0
    log_odds[:, [0, -1]] = 3.0
    return Grid(log_odds, cell_size)


def edited(name: str, old: str, new: str) -> Path:
    """Write a copy of a demo file in which `old` is replaced by `new`; return its path."""
    text = demo_file(name).read_text()
    assert old in text, old
    path = new_folder() / name
    path.write_text(text.replace(old, new, 1))
    return path


def assert_input_error(test, call, *words: str) -> None:
    """Check that a call raises one line of `InputError` that says all of `words`."""
    with test.assertRaises(InputError) as caught:
        call()
    message = str(caught.exception)
    test.assertNotIn("\n", message)
    for word in words:
        test.assertIn(word, message)
