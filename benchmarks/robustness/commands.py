"""Every option of every command with values that make no sense, and every output where nothing can be written.

The options are taken from the commands themselves, so that a new one is tried without being listed here.
"""

from __future__ import annotations

import contextlib
import io
import os
import shutil
import subprocess
import sys
import tempfile
import time
import warnings
from collections.abc import Iterator
from pathlib import Path
from unittest import mock

import click

from benchmarks.robustness.originals import make_originals
from vinecompass.cli import cli, main
from vinecompass.cli.outputs import OUT

__all__ = ["LINES", "campaign", "command_named", "run", "try_outputs", "try_values"]

ROOM = "--robot one/robot.toml"
LINES = {
    "simulate": f"one/site.toml {ROOM} --route across -o new/run",
    "import run": f"{ROOM} --scans csv/scans.csv --wheels csv/wheels.csv -o new/run",
    "import map": "map/map.png --cell-size 0.05 -o new/map.png",
    "import site": "map/map.png --start 1.5,1.5,0 --stop there:4.6,1.5,0 -o new/site.toml",
    "check": "csv",
    "fuse": "csv -o new/track.csv",
    "map": "csv -o new/map.png",
    "edit": "map/map.png --specks 0.01 -o new/map.png",
    "judge": "map/map.png",
    "locate": "map/map.png csv -o new/track.csv",
    "price": f"map/map.png {ROOM} -o new/costmap.npz",
    "plan": f"map/map.png {ROOM} --from 1.5,1.5,0 --to 4.6,1.5,0 -o new/plan.csv",
    "drive": f"one/site.toml {ROOM} --map map/map.png --to 3,1.5,0 -o new/mission",
    "live": f"one/site.toml {ROOM} --map map/map.png --seconds 0.2 -o new/drive",
    "replay": "csv --map map/map.png -o new/page.html",
    "tune": f"one/site.toml {ROOM} --map map/map.png --to 3,1.5,0 --vary costs.comfort --trials 4 --seeds 1 -o new/t",
    "demo": "-o new/demo",
}
"""A call of each command that goes well."""
VALUES = (
    "-1",
    "nan",
    "inf",
    "1e300",
    "1e-9",
    "abc",
    "",
    "0",
    "1,2",
    "1,2,nan",
    "2147483648",
    "1e400",
    "\x1b[31m",
    "a/b",
)
LONGEST = 180.0
"""Seconds that a call may take at most: the whole demo, on a busy machine, is one of them."""


def run(*words: object) -> tuple[int, str]:
    """Run a command in this process; return its status, -1 for an error that escaped, and its standard error."""
    out, err = io.StringIO(), io.StringIO()
    with (
        mock.patch.object(sys, "argv", ["vinecompass", *map(str, words)]),
        contextlib.redirect_stdout(out),
        contextlib.redirect_stderr(err),
        warnings.catch_warnings(record=True) as warned,
    ):
        warnings.simplefilter("always")
        try:
            main()
        except SystemExit as end:
            status = int(end.code or 0)
        except BaseException as error:
            return -1, f"{type(error).__name__}: {error}"
    return (-1, f"warns: {warned[0].message}") if warned else (status, err.getvalue())


def command_named(name: str) -> click.Command:
    """Return the command of a name, which may be one of a group's."""
    command: click.Command = cli
    for word in name.split():
        assert isinstance(command, click.Group)
        command = command.commands[word]
    return command


def try_values(values: tuple[str, ...] = VALUES, names: tuple[str, ...] = tuple(LINES)) -> tuple[int, list[str]]:
    """Give every option of the commands each value; return how many calls that were, and those that fell short."""
    count, fallen = 0, []
    for name in names:
        line = LINES[name].split()
        for option in command_named(name).params:
            if not isinstance(option, click.Option) or option.is_flag or option.type is OUT:
                continue
            for value in values:
                begun = time.perf_counter()
                status, told = run(*name.split(), *_without(line, option), f"{option.opts[-1]}={value}")
                took, count = time.perf_counter() - begun, count + 1
                shutil.rmtree("new", ignore_errors=True)
                if status == -1 or (status == 2 and _lines(told) != 1) or took > LONGEST:
                    fallen.append(f"{name} {option.opts[-1]}={value!r}: status {status}, {took:.0f} s, {told!r:.200}")
    return count, fallen


def _lines(told: str) -> int:
    """Return how many lines were told, besides those by which `live` says where its page is."""
    return sum(not line.startswith(("getting ready", "open http://")) for line in told.splitlines())


def _without(line: list[str], option: click.Option) -> list[str]:
    """Return a line without an option that is to be given otherwise."""
    for spelled in option.opts:
        if spelled in line and not option.multiple:
            place = line.index(spelled)
            return line[:place] + line[place + 2 :]
    return line


def try_outputs(names: tuple[str, ...] = tuple(LINES)) -> tuple[int, list[str]]:
    """Let every output of the commands lie where it cannot be written; return the calls, and which fell short."""
    count, fallen = 0, []
    for name in names:
        line = LINES[name].split()
        for option in command_named(name).params:
            if not isinstance(option, click.Option) or option.type is not OUT:
                continue
            given = _without(line, option)
            suffix = _suffix_of(name, option)
            for where, folder in _places():
                if name == "demo" and where == "a folder stands there":
                    continue  # It is a folder of any kind that this fills.
                long = "x" * 300 if where == "a name too long" else "out"
                path = folder / (f"{long}{suffix}")
                if where == "a folder stands there":
                    (path / "mine").mkdir(parents=True)
                before = _stands(folder)
                status, told = run(*name.split(), *given, option.opts[-1], path)
                count += 1
                if status != 2 or _lines(told) != 1:
                    fallen.append(f"{name} {option.opts[-1]}, {where}: status {status}, {told!r:.200}")
                if _stands(folder) != before:
                    fallen.append(f"{name} {option.opts[-1]}, {where}: left {sorted(_stands(folder) - before)}")
    return count, fallen


def _suffix_of(name: str, option: click.Option) -> str:
    """Return how the files end that an option writes; nothing for a folder."""
    if option.opts[-1] == "--out":
        return Path(LINES[name].split()[-1]).suffix if "-o" in LINES[name] else ".csv"
    return {"--picture": ".png", "--film": ".gif"}.get(option.opts[-1], ".csv")


def _places() -> Iterator[tuple[str, Path]]:
    """Yield folders in which nothing can be written, and why."""
    with tempfile.TemporaryDirectory() as given:
        folder = Path(given)
        yield "a name too long", folder
        (folder / "file").write_text("mine")
        yield "a file where a folder is meant", folder / "file"
        if os.geteuid() == 0:
            for where, options in (("a full disk", "size=4k"), ("a read-only folder", "ro")):
                (folder / options).mkdir()
                command = ["mount", "-t", "tmpfs", "-o", options, "tmpfs", str(folder / options)]
                if subprocess.run(command, capture_output=True).returncode == 0:
                    try:
                        if where == "a full disk":
                            (folder / options / "filler").write_bytes(bytes(4096))
                        yield where, folder / options
                    finally:
                        subprocess.run(["umount", folder / options], check=True)
        else:
            (folder / "locked").mkdir(mode=0o500)
            yield "a read-only folder", folder / "locked"
        yield "a folder stands there", folder


def _stands(folder: Path) -> set[str]:
    return {str(each) for each in folder.rglob("*")} if folder.is_dir() else {str(folder.is_file())}


def campaign(_count: int) -> int:
    """Try every option and every output; print what fell short, and return how much."""
    with tempfile.TemporaryDirectory() as folder, contextlib.chdir(folder):
        make_originals(Path(folder))
        values, fallen = try_values()
        outputs, lost = try_outputs()
    for line in fallen + lost:
        print(line)
    print(f"{values} calls with values of no sense, {outputs} outputs that cannot be: {len(fallen + lost)} fell short")
    return len(fallen + lost)
