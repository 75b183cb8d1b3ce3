"""All settings that are numbers, by their names in files: what each means, and how to change it."""

from __future__ import annotations

import difflib
from collections.abc import Mapping
from dataclasses import dataclass
from typing import Any

from vinecompass.errors import InputError
from vinecompass.files import Model, validated
from vinecompass.settings.settings import Settings
from vinecompass.settings.tuned import Span, span_of

__all__ = ["TunableSetting", "Value", "changed_settings", "differing_values", "find_setting", "tunable_settings"]

Value = float | int | bool | str | list[Any]
"""Of a setting."""

AGAIN = {
    "fusion": "fuse",
    "mapping": "map",
    "localization": "locate",
    "costs": "price",
    "planning": "plan",
}
"""The first step that a table's settings need done again; driving, for all others."""


@dataclass(frozen=True)
class TunableSetting:
    """A setting that is a number.

    Parameters
    ----------
    key : str
        Table and name, as ``costs.comfort``.
    meaning : str
        With its unit at the end.
    default : float or int
    whole : bool
        Whether it is a whole number.
    span : Span
        The values that make sense.
    again : str
        The first step that must be done again to see its effect.
    """

    key: str
    meaning: str
    default: float
    whole: bool
    span: Span
    again: str


def tunable_settings() -> list[TunableSetting]:
    """Return all settings that are numbers, in the order of the settings file.

    >>> next(one for one in tunable_settings() if one.key == "costs.comfort").span.high
    2.0
    """
    found = []
    for table, part in Settings():
        for name, field in type(part).model_fields.items() if isinstance(part, Model) else ():
            span = span_of(field)
            if span is not None:
                default, again = getattr(part, name), AGAIN.get(table, "drive")
                meaning = field.description or ""
                found.append(TunableSetting(f"{table}.{name}", meaning, default, isinstance(default, int), span, again))
    return found


def find_setting(key: str) -> TunableSetting:
    """Return the setting of that name, or raise `InputError` that names the nearest one."""
    known = {one.key: one for one in tunable_settings()}
    _check_known(key, known, "is not a setting that can be tuned")
    return known[key]


def differing_values(first: Settings, second: Settings) -> dict[str, Value]:
    """Return what is to be changed in the first settings to drive as with the second, by its keys; docks aside.

    >>> differing_values(Settings(), changed_settings(Settings(), {"planning.method": "roadmap"}))
    {'planning.method': 'roadmap'}

    Raises
    ------
    InputError
        The second leaves out what the first one sets.
    """
    was, now = _by_key(first), _by_key(second)
    changed = {key: value for key, value in now.items() if value != was[key]}
    for key, value in changed.items():
        if value is None:
            raise InputError("is left out", key=key, expected=f"a value, as {was[key]!r} in the other settings")
    return changed


def changed_settings(settings: Settings, values: Mapping[str, Value]) -> Settings:
    """Return settings with some values changed, by their keys; raise `InputError` for one that is not allowed.

    >>> changed_settings(Settings(), {"costs.comfort": 0.4}).costs.comfort
    0.4
    """
    document, known = settings.model_dump(by_alias=True), _by_key(settings)
    for key, value in values.items():
        _check_known(key, known, "is not a setting")
        table, name = key.split(".")
        document[table][name] = value
    return validated(Settings, document, "the settings")


def _by_key(settings: Settings) -> dict[str, Any]:
    """Return the values of all settings, by their keys."""
    tables = {table: part for table, part in settings.model_dump(by_alias=True).items() if isinstance(part, dict)}
    return {f"{table}.{name}": value for table, part in tables.items() for name, value in part.items()}


def _check_known(key: str, known: Mapping[str, Any], what: str) -> None:
    if key not in known:
        nearest = difflib.get_close_matches(key, known, n=1, cutoff=0.0)[0]
        raise InputError(what, key=key, expected=f"perhaps `{nearest}`")
