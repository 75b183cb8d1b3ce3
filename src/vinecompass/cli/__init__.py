"""The command line. One file a command; each imports what it needs only when it is run."""

from __future__ import annotations

import json
import os
import sys

import click

from vinecompass import __version__
from vinecompass.cli.check import check_command
from vinecompass.cli.common import say
from vinecompass.cli.compile import compile_command
from vinecompass.cli.demo import demo
from vinecompass.cli.drive import drive
from vinecompass.cli.edit import edit_command
from vinecompass.cli.fuse import fuse_command
from vinecompass.cli.import_map import import_map_command
from vinecompass.cli.import_run import import_run_command
from vinecompass.cli.import_site import import_site_command
from vinecompass.cli.judge import judge_command
from vinecompass.cli.live import live
from vinecompass.cli.locate import locate
from vinecompass.cli.map import map_command
from vinecompass.cli.plan import plan
from vinecompass.cli.price import price
from vinecompass.cli.replay import replay
from vinecompass.cli.simulate import simulate
from vinecompass.cli.tune import tune
from vinecompass.errors import VineCompassError, shortened

__all__ = ["main"]


class InOrder(click.Group):
    """Lists its commands in the order of the job, not of the alphabet."""

    def list_commands(self, ctx: click.Context) -> list[str]:
        """Return the names as they were added."""
        return list(self.commands)


@click.group(cls=InOrder, context_settings={"help_option_names": ["-h", "--help"], "max_content_width": 100})
@click.version_option(__version__, prog_name="vinecompass")
def cli() -> None:
    """Map, localize, plan and drive a wheeled robot indoors, and hear why when it cannot.

    Start with `vinecompass demo -o demo-out`. Exit status: 0 done; 1 done, and the answer is no; 2 wrong input.
    """


@click.group("import", cls=InOrder, short_help="Make a run of tables, a map of a picture, or a site of a map.")
def import_group() -> None:
    """Make a run of tables that anyone recorded, a map of a picture or a drawn floor plan, or a site of a map."""


import_group.add_command(import_run_command)
import_group.add_command(import_map_command)
import_group.add_command(import_site_command)

for command in (
    demo,
    simulate,
    import_group,
    check_command,
    fuse_command,
    map_command,
    edit_command,
    judge_command,
    locate,
    price,
    plan,
    drive,
    live,
    replay,
    tune,
    compile_command,
):
    cli.add_command(command)


def main() -> None:
    """Run the command line; every wrong input ends in one line on standard error and exit status 2."""
    # Figures are drawn into files, whatever backend the user has chosen for windows.
    os.environ["MPLBACKEND"] = "agg"
    try:
        status = cli.main(prog_name="vinecompass", standalone_mode=False)
        sys.stdout.flush()
    except click.ClickException as error:
        _fail(error.format_message().replace("\n", " "))
    except VineCompassError as error:
        _fail(str(error))
    except (click.Abort, KeyboardInterrupt):
        say("vinecompass: stopped", err=True)
        sys.exit(130)
    except OSError as error:
        where = f"{shortened(str(error.filename))}: " if error.filename else ""
        _fail(f"{where}{error.strerror or error}")
    sys.exit(status if isinstance(status, int) else 0)


def _fail(message: str) -> None:
    say("vinecompass: " + message.replace("\n", "\\n"), err=True)
    try:
        if "--json" in sys.argv:
            click.echo(json.dumps({"error": message}))
        sys.stdout.flush()
    except OSError:
        _give_up_output()
    sys.exit(2)


def _give_up_output() -> None:
    """Let what is still to be printed go nowhere, so that the interpreter does not stumble over it as it ends."""
    os.dup2(os.open(os.devnull, os.O_WRONLY), 1)
