"""vinecompass compile: everything compiled beforehand, for images, services and a robot's first minute."""

from __future__ import annotations

import io
import shlex
import tempfile
import time
from contextlib import redirect_stderr, redirect_stdout
from pathlib import Path

import click

from vinecompass.cli.common import Outcome, json_option, progress_bar, tell
from vinecompass.cli.outputs import Careful

__all__ = ["compile_command"]

JOB = (
    ("recording", "simulate {out}/site.toml --robot {robot} --route 'to and fro' -o {out}/run"),
    ("checking", "check {out}/run"),
    ("fusing", "fuse {out}/run"),
    ("calibrating", "fuse {out}/run --estimate-mount -o {out}/amended.toml"),
    ("mapping", "map {out}/run -o {out}/map.png"),
    ("editing", "edit {out}/map.png --specks 0.1 -o {out}/edited.png"),
    ("judging", "judge {out}/edited.png --against {out}/map.png"),
    ("localizing", "locate {out}/map.png {out}/run --anywhere -o {out}/track.csv"),
    ("localizing by scans", "locate {out}/map.png {out}/run --odometry scans -o {out}/scans.csv"),
    ("localizing by beams", "locate {out}/map.png {out}/run --settings {out}/beams.toml -o {out}/beams.csv"),
    ("pricing", "price {out}/map.png --robot {robot} --narrow"),
    ("planning", "plan {out}/map.png --robot {robot} --site {site} --from 36.9,24,-90 --to 36.9,20,-90 --compare all"),
    (
        "planning one way",
        "plan {out}/map.png --robot {robot} --from 36.9,24,-90 --to 36.9,20,-90 --zones {out}/one-way.toml",
    ),
    ("planning in curves", "plan {out}/map.png --robot {forklift} --from 36.9,24,-90 --to 36.9,20,-90"),
    ("driving", "drive {site} --robot {robot} --map {out}/map.png --to 36.9,20,-90"),
)
"""What is done once on the shipped data, so that whatever the commands call is compiled."""
ROUTE = """
[[route]]
name = "to and fro"
points = [
  [36.9, 24.6], [36.9, 18.5], [40.6, 18.3], [40.6, 13.5], [38.2, 12.8],
  [40.6, 14.0], [40.6, 18.4], [36.9, 18.6], [36.9, 22.5],
]
"""
"""Out and back the same way, on dry floor and wet: short, but loops close on it, and wheels slip."""
FILES = {
    "beams.toml": 'format = "vinecompass settings"\nversion = 1\n[localization]\nmeasurement = "beams"\n'
    "least_particles = 50\nmost_particles = 500\n",
    "one-way.toml": 'format = "vinecompass zones"\nversion = 1\n'
    "[[zone]]\nname = 'passage'\nkind = 'one-way'\nheading_deg = -90\n"
    "polygon = [[36, 21], [38, 21], [38, 22], [36, 22]]\n",
}
"""What some of it is done with, besides."""


@click.command("compile", cls=Careful, short_help="Compile everything now, so that no later call waits for it.")
@json_option
def compile_command(as_json: bool) -> int:
    """Do every step of the job once on shipped data, so that all that is fast is compiled, and kept.

    It is kept where VINECOMPASS_CACHE says, or else in the package's own folder. Exit status 1 if it cannot be kept.
    """
    return tell(run_compile(), as_json)


def run_compile() -> Outcome:
    """Compile all, and say where it is kept."""
    from vinecompass.compiled_code import kept_in
    from vinecompass.data import demo_file
    from vinecompass.navigation import warm_up
    from vinecompass.robot import read_robot
    from vinecompass.settings import Settings

    begun, place = time.perf_counter(), kept_in()
    if place is None:
        return Outcome("compile", "what is compiled cannot be kept, so nothing was compiled", done=False)
    data = {name: demo_file(f"{name}.toml") for name in ("site", "robot", "forklift")}
    with tempfile.TemporaryDirectory() as out, progress_bar() as progress:
        for name, text in {**FILES, "site.toml": data["site"].read_text() + ROUTE}.items():
            (Path(out) / name).write_text(text)
        for number, (what, line) in enumerate(JOB):
            if progress:
                progress(number / len(JOB), what)
            _run([word.format(out=out, **data) for word in shlex.split(line)])
    for planner in ("window", "band", "path"):
        # Past a person, which the commands may not meet.
        warm_up(read_robot(data["robot"]), Settings.model_validate({"following": {"planner": planner}}))
    seconds = time.perf_counter() - begun
    kernels = sum(1 for _ in place.rglob("*.nbi"))
    return Outcome(
        "compile",
        f"{kernels} kernels, after {seconds:.0f} s",
        quality={"kernels": kernels, "duration_s": round(seconds, 3)},
        files={"folder": str(place)},
    )


def _run(words: list[str]) -> None:
    """Run a command as its user would, but for what it prints; "no" is an answer, too."""
    from vinecompass.cli import cli

    with redirect_stdout(io.StringIO()), redirect_stderr(io.StringIO()):
        cli.main(words, prog_name="vinecompass", standalone_mode=False)
