"""The errors that Vine Compass raises for what its user gave it."""

from __future__ import annotations

from pathlib import Path

__all__ = ["InputError", "VineCompassError"]


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
        subject = "" if key is None else key + ("" if value is None else f" = {_short(value)}") + ": "
        wish = "" if expected is None else f"; expected {expected}"
        super().__init__(place + subject + problem + wish)


def _short(value: object) -> str:
    text = " ".join(repr(value).split())
    return text if len(text) <= 60 else text[:57] + "..."
