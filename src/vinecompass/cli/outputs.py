"""What commands write: never over an input, nor over anything of another kind, unless they are told to."""

from __future__ import annotations

from pathlib import Path
from typing import Any

import click

from vinecompass.errors import InputError

__all__ = ["OUT", "Writing", "is_forcing"]

FORCE = "vinecompass.force"


class _Out(click.Path):
    """The path of a file or folder to write."""

    def convert(self, value: Any, param: click.Parameter | None, ctx: click.Context | None) -> Any:
        """Refuse a name that is none."""
        if str(value) == "":
            self.fail("is empty; expected a name", param, ctx)
        return super().convert(value, param, ctx)


OUT = _Out(path_type=Path)


def is_forcing(context: click.Context) -> bool:
    """Tell whether a command was called with ``--force``."""
    return bool(context.meta.get(FORCE))


class Writing(click.Command):
    """A command that writes: it has ``--force``, and refuses to write over what it reads."""

    def __init__(self, *arguments: Any, **attributes: Any) -> None:
        super().__init__(*arguments, **attributes)
        told = "Write over whatever stands there; without it, only over a file or folder of the same kind."
        self.params.append(click.Option(["--force"], is_flag=True, expose_value=False, help=told))

    def parse_args(self, ctx: click.Context, args: list[str]) -> list[str]:
        """Take ``--force`` apart from what the command is given."""
        ctx.meta[FORCE] = "--force" in args
        return super().parse_args(ctx, args)

    def invoke(self, ctx: click.Context) -> Any:
        """Look at the names first, before any long work."""
        from vinecompass.files import replacing_anything

        outputs = {param.opts[-1]: path for param, path in self._given(ctx) if isinstance(param.type, _Out)}
        inputs = [path for param, path in self._given(ctx) if not isinstance(param.type, _Out)]
        for option, out in outputs.items():
            for given in inputs:
                _check_apart(option, out, given)
        if not is_forcing(ctx):
            return super().invoke(ctx)
        with replacing_anything():
            return super().invoke(ctx)

    def _given(self, ctx: click.Context) -> list[tuple[click.Parameter, Path]]:
        """Return all the paths that the command was given, with what each stands for."""
        found = []
        for param in self.params:
            value = ctx.params.get(param.name or "")
            for each in value if isinstance(value, tuple) else (value,):
                if isinstance(each, Path):
                    found.append((param, each))
        return found


def _check_apart(option: str, out: Path, given: Path) -> None:
    """Raise `InputError` if what is written is what is read, holds it, or is part of it."""
    target, source = out.resolve(), given.resolve()
    if target == source:
        raise InputError("is also read", key=option, value=str(out), expected="another name")
    if target in source.parents and (target / "run.toml").exists():
        raise InputError("holds a file that is read", key=option, value=str(out), expected="another folder")
    if source in target.parents and (source / "run.toml").exists():
        raise InputError(f"lies in {given}, which is read", key=option, value=str(out), expected="a name elsewhere")
