"""vinecompass demo: the whole job on the shipped data."""

from __future__ import annotations

import json
import time
from collections.abc import Callable, Sequence
from pathlib import Path

import click

from vinecompass.cli.common import Outcome, json_option, say, seed_option
from vinecompass.cli.outputs import OUT, Writing

__all__ = ["demo"]

RECORDING, SECOND, STOP = "grand tour", "press round", "rack 4"


@click.command(cls=Writing, short_help="Do the whole job on shipped data, from recording to arriving.")
@click.option("-o", "--out", type=OUT, required=True, help="The folder to write everything to.")
@seed_option
@json_option
def demo(out: Path, seed: int, as_json: bool) -> int:
    """Simulate, map, locate, price, plan, drive and report, in a made-up cellar and press house.

    Writes every file that the single commands would, so that each step can be done again by hand.
    """
    from vinecompass.figures.report import write_report

    begun = time.perf_counter()
    _make_folder(out)
    steps = _steps(out, seed)
    outcomes: list[Outcome] = []
    for number, step in enumerate(steps, start=1):
        outcome = step()
        outcomes.append(outcome)
        say(f"{number}. {outcome.command}: {outcome.line}", err=as_json)
    report = write_report([outcome.as_dict() for outcome in outcomes], out / "report.html")
    seconds = time.perf_counter() - begun
    done = all(outcome.done for outcome in outcomes)
    say(f"{len(steps) + 1}. report: {report}, after {seconds:.0f} s in all", err=as_json)
    if as_json:
        result = {
            "command": "demo",
            "done": done,
            "duration_s": round(seconds, 3),
            "steps": [outcome.as_dict() for outcome in outcomes],
            "files": {"report": str(report)},
        }
        click.echo(json.dumps(result, allow_nan=False))
    return 0 if done else 1


def _make_folder(out: Path) -> None:
    """Make the folder, with the shipped robot, site and round in it."""
    from vinecompass.data import demo_file
    from vinecompass.errors import InputError
    from vinecompass.files import atomic_write

    if out.exists() and not out.is_dir():
        raise InputError("is a file", file=out, expected="a folder, or a new name")
    for name in ("site.toml", "robot.toml", "round.toml"):
        atomic_write(out / name, demo_file(name).read_bytes())


def _steps(out: Path, seed: int) -> Sequence[Callable[[], Outcome]]:
    """Return the steps of the job, each to be called in turn."""
    from vinecompass.cli.drive import DriveOptions, run_drive
    from vinecompass.cli.locate import LocateOptions, run_locate
    from vinecompass.cli.map import run_map
    from vinecompass.cli.plan import PlanOptions, run_plan
    from vinecompass.cli.price import PriceOptions, run_price
    from vinecompass.cli.replay import run_replay
    from vinecompass.cli.simulate import run_simulate
    from vinecompass.simulation import read_site

    def picture(name: str) -> Path:
        return out / f"{name}.png"

    site, robot, cellar = out / "site.toml", out / "robot.toml", out / "cellar.png"
    start = read_site(site).start
    # Half a metre and 15 degrees off, as a person would point at a map.
    rough = f"{start[0] + 0.4:.2f},{start[1] - 0.3:.2f},{start[2] + 15.0:.1f}"
    exact = ",".join(f"{value:g}" for value in start)
    locating = LocateOptions(
        cellar, out / "second-run", out / "track.csv", at=rough, seed=seed, picture=picture("3-locate")
    )
    pricing = PriceOptions(cellar, robot, zones=site, out=out / "costmap.npz", picture=picture("4-price"))
    planning = PlanOptions(cellar, robot, exact, STOP, site=site, out=out / "plan.csv", picture=picture("5-plan"))
    driving = DriveOptions(
        site, robot, cellar, STOP, at=rough, out=out / "mission", seed=seed + 2, picture=picture("6-drive")
    )
    return (
        lambda: run_simulate(site, robot, RECORDING, out / "recording", seed=seed, picture=picture("1-simulate")),
        lambda: run_map(out / "recording", cellar, picture=picture("2-map")),
        # Another drive, along another route, to localize in the map of the first.
        lambda: run_simulate(site, robot, SECOND, out / "second-run", seed=seed + 1, picture=None),
        lambda: run_locate(locating),
        lambda: run_price(pricing),
        lambda: run_plan(planning),
        lambda: run_drive(driving),
        lambda: run_replay(out / "mission", out / "replay.html", map_path=cellar),
    )
