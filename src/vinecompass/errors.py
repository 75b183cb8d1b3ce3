"""The errors that Vine Compass raises for what its user gave it."""

from __future__ import annotations

from pathlib import Path

__all__ = ["InputError", "VineCompassError", "printable", "shortened"]

QUOTED = 60
"""Characters of an input that are told at most."""


class VineCompassError(Exception):
    """Base of every error that this package raises on purpose."""


class InputError(VineCompassError, ValueError):
    """An input that cannot be used: which file, which key, its value, and what was expected.

    Parameters
    ----------
    problem : str
        What is wrong, in a few words.
    file : path-like, optional
        Where it was found.
    key : str, optional
        The key, column or option, dotted where nested: ``lidar[0].beams``.
    value : object, optional
        What stood there; shown only when a key is named.
    expected : str, optional
        What would have been accepted.

    Examples
    --------
    >>> print(InputError("is not a number", file="robot.toml", key="drive.top_speed", value="fast", expected="m/s"))
    robot.toml: drive.top_speed = 'fast': is not a number; expected m/s
    """

    def __init__(
        self,
        problem: str,
        *,
        file: str | Path | None = None,
        key: str | None = None,
        value: object = None,
        expected: str | None = None,
    ) -> None:
        self.problem = problem
        self.file = file
        self.key = key
        self.value = value
        self.expected = expected
        place = "" if file is None else f"{file}: "
        value_told = "" if value is None else f" = {shortened(' '.join(repr(value).split()))}"
        subject = "" if key is None else f"{shortened(key)}{value_told}: "
        wish = "" if expected is None else f"; expected {expected}"
        super().__init__(place + subject + problem + wish)


def shortened(text: str) -> str:
    """Return what is quoted of an input, cut short: a whole line of a table is no help."""
    return text if len(text) <= QUOTED else text[: QUOTED - 3] + "..."


def printable(text: str) -> str:
    """Return text that does nothing to a terminal: each control character as its code, but for ends of lines.

    >>> print(printable("red \\x1b[31m"))
    red \\x1b[31m
    """
    return "".join(each if each.isprintable() or each == "\n" else repr(each)[1:-1] for each in text)
