"""What callers give is looked at once, at the door: each argument by what its annotation says that it is."""

from __future__ import annotations

import functools
import inspect
import os
import re
from collections.abc import Callable, Collection, Mapping
from numbers import Integral, Real
from typing import Any, TypeVar, cast

import numpy as np

from vinecompass.errors import InputError

__all__ = ["checked"]

Checked = TypeVar("Checked", bound=Callable[..., Any])
Rule = Callable[[object], str]
"""What is expected of a value that is something else; empty where it is as it should be."""

FINITE = "a finite number"
MADE_BY = {
    "Grid": "as read_map returns it",
    "Robot": "as read_robot returns it",
    "Run": "as read_run returns it",
    "Site": "as read_site returns it",
    "Track": "as read_track or fuse makes it",
    "CostMap": "as price_floor returns it",
    "Plan": "as plan_path returns it",
    "Round": "as read_round returns it",
    "FloorPlan": "as read_floor_plan returns it",
    "Zone": "as read_zones returns them",
    "Drive": "the drive of a Robot",
    "Lidar": "the scanner of a Robot",
    "Scans": "the scans of a Run",
    "Wheels": "the wheels of a Run",
    "Imu": "the imu of a Run",
    "Positions": "the position of a Run",
    "Commands": "the commands of a Run",
    "Entry": "a method and its settings",
    "Scan": "a time and its ranges",
    "Problem": "what is to be planned",
    "ShownWay": "as read_shown_ways returns them",
    "Walking": "a person with a place and a velocity",
    "Navigator": "what drives",
    "Settings": "as read_settings returns them",
    "Play": "as read_play returns it",
    "Rehearsal": "as rehearse_mission returns it",
    "MomentLog": "that was given as `watch`",
    "StudyRun": "with a case and a folder",
    "SimulatedLink": "with a site and a robot",
    "Live": "beside a navigator",
    "LiveRecording": "with a link",
}
"""Classes whose things nothing else may stand in for, and where one comes from."""


def checked(call: Checked) -> Checked:
    """Let a function, or a class when one of it is made, refuse what its annotations do not allow.

    Only what can be told from a value itself is looked at: numbers are finite, arrays hold numbers, a map is a map.
    What belongs together, as lengths that must be equal, each function checks itself.

    Raises
    ------
    InputError
        When called: an argument is something else; it is named.

    Examples
    --------
    >>> @checked
    ... def stretch(length: float, times: int = 2) -> float:
    ...     return times * length
    >>> stretch(1.5)
    3.0
    >>> stretch("far")
    Traceback (most recent call last):
    vinecompass.errors.InputError: length = 'far': is a str; expected a finite number
    """
    if inspect.isclass(call):
        setattr(call, "__init__", checked(call.__init__))  # noqa: B010 - for mypy, which knows no other way
        return call
    parameters = list(inspect.signature(call).parameters.values())
    rules = [(each.name, _seed if each.name == "seed" else _rule(str(each.annotation))) for each in parameters]
    in_order = [
        each for each, parameter in zip(rules, parameters, strict=True) if parameter.kind != parameter.KEYWORD_ONLY
    ]
    by_name = dict(rules)

    @functools.wraps(call)
    def door(*arguments: Any, **named: Any) -> Any:
        for (name, rule), value in zip(in_order, arguments, strict=False):
            _check(name, rule, value)
        for name, value in named.items():
            _check(name, by_name.get(name), value)
        return call(*arguments, **named)

    return cast(Checked, door)


def _check(name: str, rule: Rule | None, value: object) -> None:
    expected = rule(value) if rule is not None else ""
    if expected:
        told = value if isinstance(value, (str, int, float)) else None
        what = (
            "is not finite" if isinstance(value, float) and expected == FINITE else f"is {_one(type(value).__name__)}"
        )
        raise InputError(what, key=name, value=told, expected=expected)


@functools.cache
def _rule(annotation: str) -> Rule | None:
    """Return how a value is looked at that is annotated so; None where nothing can be told."""
    parts = _parts(annotation, "|")
    if len(parts) > 1:
        rules = [_rule(part) for part in parts if part != "None"]
        return None if None in rules else _either(cast(list[Rule], rules), "None" in parts)
    found = re.fullmatch(r"([\w.]*)(?:\[(.*)\])?", annotation.strip("'\""), re.DOTALL)
    if found is None:
        return None
    name, inner = found.groups()
    match name.split(".")[-1]:
        case "Sequence" | "Iterable" | "list":
            return _each(_rule(inner), inner)
        case "Mapping" | "dict":
            return lambda value: "" if isinstance(value, Mapping) else "a dictionary"
        case "Literal":
            words = [word.strip(" '\"") for word in inner.split(",")]
            return lambda value: "" if isinstance(value, str) and value in words else f"one of: {', '.join(words)}"
        case "NDArray" if inner and "str_" in inner:
            return None
        case plain if plain in RULES:
            return RULES[plain]
        case kind if kind in MADE_BY or kind.endswith("Settings"):
            expected = f"{_one(kind)}, {MADE_BY[kind]}" if kind in MADE_BY else f"{kind}, a part of Settings"
            return lambda value: "" if any(each.__name__ == kind for each in type(value).__mro__) else expected
    return None


def _one(kind: str) -> str:
    return f"an {kind}" if kind[0] in "AEIOaeio" else f"a {kind}"


def _parts(annotation: str, mark: str) -> list[str]:
    """Return what stands between marks that are in no brackets."""
    parts, depth = [""], 0
    for letter in annotation:
        depth += (letter == "[") - (letter == "]")
        if letter == mark and depth == 0:
            parts.append("")
        else:
            parts[-1] += letter
    return [part.strip() for part in parts]


def _either(rules: list[Rule], nothing: bool) -> Rule:
    def rule(value: object) -> str:
        if nothing and value is None:
            return ""
        told = [each(value) for each in rules]
        return "" if "" in told else " or ".join(dict.fromkeys(told))

    return rule


def _each(rule: Rule | None, what: str) -> Rule:
    def every(value: object) -> str:
        if isinstance(value, (str, bytes)) or not isinstance(value, Collection):
            return f"several of {what}"
        return next(filter(None, map(rule, value)), "") if rule is not None else ""

    return every


def _number(value: object) -> str:
    good = isinstance(value, Real) and not isinstance(value, (bool, np.bool_)) and np.isfinite(float(value))
    return "" if good else FINITE


def _whole(value: object) -> str:
    return "" if isinstance(value, Integral) and not isinstance(value, bool) else "a whole number"


def _seed(value: object) -> str:
    return "" if not _whole(value) and cast(int, value) >= 0 else "a whole number, 0 or above"


def _array(value: object) -> str:
    if isinstance(value, np.ndarray) and value.dtype.kind in "fiub":
        return ""
    try:
        np.asarray(value, dtype=float)
    except (TypeError, ValueError):
        return "an array of numbers"
    return "" if value is not None else "an array of numbers"


def _path(value: object) -> str:
    return "" if isinstance(value, os.PathLike) else "a path"


def _text(value: object) -> str:
    return "" if isinstance(value, str) else "a text"


RULES: dict[str, Rule] = {
    "float": _number,
    "int": _whole,
    "str": _text,
    "Path": _path,
    "ArrayLike": _array,
    "NDArray": _array,
    "FloatArray": _array,
    "Planner": lambda value: "" if callable(value) else "a planner of your own",
}
