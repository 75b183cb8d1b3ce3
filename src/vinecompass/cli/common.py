"""What the commands share: options, poses on the command line, progress, and how an outcome is told."""

from __future__ import annotations

import json
import math
import sys
from collections.abc import Callable, Iterator, Sequence
from contextlib import contextmanager
from dataclasses import dataclass, field
from pathlib import Path
from typing import TYPE_CHECKING, Any

import click

from vinecompass.cli.outputs import FILE, OUT
from vinecompass.errors import InputError, printable

if TYPE_CHECKING:
    import numpy as np
    from numpy.typing import NDArray

    from vinecompass.grids import Grid, MapRecord, Zone
    from vinecompass.navigation import Round
    from vinecompass.settings import Settings
    from vinecompass.simulation import Site

__all__ = [
    "FiniteRange",
    "Outcome",
    "counted",
    "find_point",
    "find_pose",
    "json_option",
    "load_map",
    "load_settings",
    "load_zones",
    "odometry_option",
    "picture_option",
    "progress_bar",
    "read_round_or_stop",
    "robot_option",
    "say",
    "seed_option",
    "settings_option",
    "tell",
    "with_doubts",
]


class FiniteRange(click.FloatRange):
    """A number between two ends, and none that is not finite."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> float:
        """Refuse what is no number, and infinity."""
        number = float(super().convert(value, param, ctx))
        if not math.isfinite(number):
            self.fail(f"{value!r} is not a finite number.", param, ctx)
        return number


json_option = click.option("--json", "as_json", is_flag=True, help="Print one JSON object and nothing else.")
seed_option = click.option(
    "--seed", type=click.IntRange(0), default=0, show_default=True, help="Same seed, same result."
)
robot_option = click.option("--robot", type=FILE, required=True, help="The robot's file.")
settings_option = click.option("--settings", type=FILE, help="A settings file; what it leaves out keeps its default.")
odometry_option = click.option(
    "--odometry",
    type=click.Choice(["fused", "wheels", "scans"]),
    default="fused",
    show_default=True,
    help="What motion to begin from: all streams fused, the wheels (or odometry) alone, or the scans alone.",
)


def _png_name(_context: click.Context, _option: click.Parameter, path: Path | None) -> Path | None:
    from vinecompass.files import FIGURE, check_suffix

    return None if path is None else check_suffix(path, ".png", FIGURE)


picture_option = click.option("--picture", type=OUT, callback=_png_name, help="Draw the result into this PNG file.")


@dataclass
class Outcome:
    """What a command found: one line for people, `details` below it, and the same in numbers.

    Keys of `quality` and `truth` end with their unit; `files` are those written; `hint` says what to run next.
    """

    command: str
    line: str
    quality: dict[str, Any] = field(default_factory=dict)
    truth: dict[str, Any] = field(default_factory=dict)
    files: dict[str, str] = field(default_factory=dict)
    hint: str = ""
    done: bool = True
    details: list[str] = field(default_factory=list)

    def as_dict(self) -> dict[str, Any]:
        """Return what ``--json`` prints."""
        return {
            "command": self.command,
            "done": self.done,
            "message": self.line,
            "quality": _plain(self.quality),
            "truth": _plain(self.truth),
            "files": self.files,
        }


def _plain(value: Any) -> Any:
    """Round numbers to 6 digits after the point; what is not finite has no JSON form and becomes null."""
    if isinstance(value, dict):
        return {key: _plain(item) for key, item in value.items()}
    if isinstance(value, list):
        return [_plain(item) for item in value]
    if hasattr(value, "item"):
        value = value.item()
    if isinstance(value, float):
        return round(value, 6) if math.isfinite(value) else None
    return value


def say(text: str, *, err: bool = False) -> None:
    """Print a line, whatever names are in it, so that it does nothing to the terminal but stand there."""
    click.echo(printable(text), err=err)


def tell(outcome: Outcome, as_json: bool) -> int:
    """Print an outcome and return the exit status: 0 if done, 1 if the answer is no."""
    if as_json:
        click.echo(json.dumps(outcome.as_dict(), allow_nan=False))
    else:
        say(f"{outcome.command}: {outcome.line}")
        for detail in outcome.details:
            say(f"  {detail}".rstrip())
        if outcome.files:
            say(f"  wrote {', '.join(outcome.files.values())}")
        if outcome.hint:
            say(f"  next: {outcome.hint}")
    return 0 if outcome.done else 1


@contextmanager
def progress_bar() -> Iterator[Callable[[float, str], None] | None]:
    """Yield a callback that draws a progress bar on a terminal, and None where there is no terminal."""
    if not sys.stderr.isatty():
        yield None
        return
    from rich.console import Console
    from rich.progress import Progress

    with Progress(console=Console(stderr=True), transient=True) as progress:
        task = progress.add_task("", total=1.0)
        yield lambda share, word: progress.update(task, completed=share, description=word)


def load_settings(path: Path | None) -> Settings:
    """Read a settings file, or take the defaults."""
    from vinecompass.settings import Settings, read_settings

    return Settings() if path is None else read_settings(path)


def load_zones(path: Path) -> Sequence[Zone]:
    """Read the zones of a zones file, of a site file, or of a map with zones."""
    from vinecompass.files import read_text
    from vinecompass.grids import read_map_record, read_zones
    from vinecompass.simulation import read_site

    if path.suffix == ".png":
        return read_map_record(path).zones
    return read_site(path).zones if '"vinecompass site"' in read_text(path) else read_zones(path)


def load_site(path: Path, of_map: Sequence[Zone]) -> Site:
    """Read a site, with the zones of the map that is gone by there, too: what was closed on it is closed to drives."""
    from vinecompass.simulation import read_site

    site = read_site(path)
    return site.model_copy(update={"zones": [*site.zones, *(zone for zone in of_map if zone not in site.zones)]})


def load_map(path: Path) -> Grid:
    """Read a map as `load_map_record` does, where its zones are of no use."""
    return load_map_record(path).grid


def load_map_record(path: Path) -> MapRecord:
    """Read a map with its zones, and say on standard error if it was painted on since it was written."""
    from vinecompass.grids import read_map_record

    record = read_map_record(path)
    if record.painted:
        say(f"vinecompass: {path}: {record.painted}", err=True)
    return record


def with_doubts(line: str, doubts: Sequence[str]) -> str:
    """Return what came of a run in a sentence that begins with why it is not to be trusted, if there is reason to."""
    return f"not to be trusted, check the run first ({'; '.join(doubts)}); {line}" if doubts else line


def counted(number: int, what: str) -> str:
    """Return so many of a thing, in words: ``1 plan``, ``2 plans``."""
    return f"{number} {what}" if number == 1 else f"{number} {what}s"


def find_pose(text: str, *, option: str, site: Site | None = None) -> NDArray[np.float64]:
    """Return a pose given as ``x,y,heading_deg`` or as the name of one of the site's stops."""
    import numpy as np

    parts = text.split(",")
    if len(parts) == 3:
        try:
            x, y, heading_deg = (float(part) for part in parts)
        except ValueError:
            pass
        else:
            if np.all(np.isfinite([x, y, heading_deg])):
                return np.array([x, y, np.radians(heading_deg)])
    if site is not None and len(parts) == 1:
        return site.find_stop(text).site_pose
    wish = "x,y,heading_deg"
    if site is not None:
        wish += " or the name of a stop"
    elif option in ("--from", "--to"):
        wish += " (names of stops need --site)"
    raise InputError("is not a pose", key=option, value=text, expected=wish)


def read_round_or_stop(goal: str | None, path: Path | None, site: Site) -> Round:
    """Return the round of a file, or the one whose only stop is the goal; one of them must be given."""
    from vinecompass.navigation import Round, read_round

    if (goal is None) == (path is None):
        raise InputError("one of them is needed, and one only", key="--to, --round", expected="where to drive")
    if path is not None:
        return read_round(path)
    assert goal is not None
    return Round.to_pose(find_pose(goal, option="--to", site=site), goal)


def find_point(text: str, *, option: str) -> tuple[float, float]:
    """Return a point given as ``x,y``, m."""
    try:
        x, y = (float(part) for part in text.split(","))
    except ValueError:
        x = y = math.nan
    if not (math.isfinite(x) and math.isfinite(y)):
        raise InputError("is not a point", key=option, value=text, expected="x,y in metres")
    return x, y
