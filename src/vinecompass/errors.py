"""The errors that Vine Compass raises for what its user gave it."""

from __future__ import annotations

from pathlib import Path

__all__ = ["InputError", "VineCompassError"]

SHORT, LONG = 60, 200
"""Characters of a value or a key, and of a sentence, that are told."""


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
        value_told = "" if value is None else f" = {_short(' '.join(repr(value).split()), SHORT)}"
        subject = "" if key is None else f"{_short(key, SHORT)}{value_told}: "
        wish = "" if expected is None else f"; expected {_short(expected, LONG)}"
        super().__init__(place + subject + _short(problem, LONG) + wish)


def _short(text: str, most: int) -> str:
    """Return a text of at most so many characters: a whole line of a table is no help."""
    return text if len(text) <= most else text[: most - 3] + "..."
