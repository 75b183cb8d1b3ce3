"""What commands write: never over an input, nor over anything of another kind, unless they are told to."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from vinecompass.errors import InputError

__all__ = ["FILE", "OUT", "Careful", "Writing"]

READ, WRITTEN = "vinecompass.read", "vinecompass.written"
"""Under which names a command's context keeps the paths that it was given."""


class _Read(click.Path):
    """The path of a file or folder to read."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Keep it, however the command takes it."""
        path = super().convert(value, param, ctx)
        if ctx is not None:
            ctx.meta.setdefault(READ, []).append(path)
        return path


class _Written(click.Path):
    """The path of a file or folder to write."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Keep it, and refuse a name that is none."""
        if str(value) == "":
            self.fail("is empty; expected a name", param, ctx)
        path = super().convert(value, param, ctx)
        if ctx is not None and param is not None:
            ctx.meta.setdefault(WRITTEN, []).append((param.opts[-1], path))
        return path


FILE, OUT = _Read(path_type=Path), _Written(path_type=Path)


def _force(context: click.Context, _option: click.Parameter, wanted: bool) -> None:
    """Write over anything from here on, until the command line ends."""
    from vinecompass.files import replacing_anything

    if wanted:
        context.find_root().with_resource(replacing_anything())


class Careful(click.Command):
    """A command that refuses an option given twice, where only one of its values would count."""

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Look at what was given before it is taken in."""
        _, _, given = self.make_parser(ctx).parse_args(args=list(args))
        for option in given:
            counts_once = isinstance(option, click.Option) and not option.multiple and not option.is_flag
            if counts_once and given.count(option) > 1:
                raise click.UsageError(f"Option '{option.opts[-1]}' is given more than once, and only one counts.", ctx)
        return super().parse_args(ctx, args)


class Writing(Careful):
    """A command that writes: it has ``--force``, and refuses to write over what it reads."""

    def __init__(self, *arguments: Any, **attributes: Any) -> None:
        super().__init__(*arguments, **attributes)
        told = "Write over whatever stands there; without it, only over a file or folder of the same kind."
        # Before all others, as some look at once at what stands where they are to write.
        force = click.Option(["--force"], is_flag=True, is_eager=True, expose_value=False, callback=_force, help=told)
        self.params.append(force)

    def invoke(self, ctx: click.Context) -> Any:
        """Look at the names first, before any long work."""
        for option, out in ctx.meta.get(WRITTEN, []):
            for given in ctx.meta.get(READ, []):
                _check_apart(option, out, given)
        return super().invoke(ctx)


def _check_apart(option: str, out: Path, given: Path) -> None:
    """Raise `InputError` if what is written is what is read, holds it, or is part of it."""
    target, source = out.resolve(), given.resolve()
    if target == source:
        raise InputError("is also read", key=option, value=str(out), expected="another name")
    if target in source.parents and (target / "run.toml").exists():
        raise InputError("holds a file that is read", key=option, value=str(out), expected="another folder")
    if source in target.parents and (source / "run.toml").exists():
        raise InputError(f"lies in {given}, which is read", key=option, value=str(out), expected="a name elsewhere")
