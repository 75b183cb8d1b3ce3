"""Validated models of what people write, and TOML files read into them."""

from __future__ import annotations

import difflib
import re
import tomllib
from collections.abc import Iterable, Mapping, Sequence
from pathlib import Path
from typing import Annotated, Any, Protocol, Self, TypeVar, get_args

import pydantic
from annotated_types import Ge, Gt, Le
from pydantic import AfterValidator, AllowInfNan, Strict
from pydantic.fields import FieldInfo

from vinecompass.errors import InputError, shortened
from vinecompass.files.reading import read_text

__all__ = [
    "AtLeastOne",
    "Count",
    "Fraction",
    "Model",
    "Near",
    "NotNegative",
    "Number",
    "Positive",
    "Rate",
    "Size",
    "Speed",
    "Whole",
    "find_named",
    "parse_model",
    "read_model",
    "validated",
]

DEEPEST = 20
"""Levels to which keys of a file are nested at most; brackets beyond are Python's own limit."""
LONGEST_LIST = 20_000
"""Entries of a list: tables of one kind, corners of a polygon, rows of a map's doubt."""
OTHERS_NAMED = 12
"""Keys that are named of what else is wrong with a file."""
FARTHEST, LEAST, MOST = 1e6, 1e-9, 1_000_000_000
"""What no number in a file goes beyond, what one above 0 does not go below, and what no whole number goes beyond: there
is no building, robot or wait so large, nor any so small."""


def _sensible(value: float) -> float:
    """Refuse what no number in a file is; not by a bound of the type, which would take the place of a field's own."""
    if abs(value) > FARTHEST:
        raise ValueError(f"is beyond all sense, up to {FARTHEST:g}")
    return value


def _not_vanishing(value: float) -> float:
    """Refuse what is above 0, and as good as 0."""
    if value < LEAST:
        raise ValueError(f"is beyond all sense, down to {LEAST:g}")
    return value


def _countable(value: int) -> int:
    """Refuse what nothing in a file can count."""
    if value > MOST:
        raise ValueError(f"is beyond all sense, up to {MOST}")
    return value


Number = Annotated[float, Strict(), AllowInfNan(False), AfterValidator(_sensible)]
Positive = Annotated[Number, Gt(0.0), AfterValidator(_not_vanishing)]
NotNegative = Annotated[Number, Ge(0.0)]
AtLeastOne = Annotated[Number, Ge(1.0)]
Fraction = Annotated[Number, Ge(0.0), Le(1.0)]
Near = Annotated[Number, Ge(-100.0), Le(100.0)]
"""Metres on a body."""
SHORTEST, LONGEST = 1e-4, 1000.0
Size = Annotated[Number, Ge(SHORTEST), Le(LONGEST)]
"""Metres of a body, a wheel or a cell."""
Speed = Annotated[Number, Ge(1e-4), Le(100.0)]
"""m/s, rad/s, or m/s2 and rad/s2 of a drive."""
Rate = Annotated[Number, Ge(0.01), Le(10_000.0)]
"""Readings a second, Hz."""
Whole = Annotated[int, Strict(), Ge(1), AfterValidator(_countable)]
Count = Annotated[int, Strict(), Ge(0), AfterValidator(_countable)]


class Model(pydantic.BaseModel):
    """Base of everything read from a file that a person writes: frozen, and no unknown keys.

    A list of tables is called in the plural in Python, and by what each of its tables is, its alias, in a file.
    """

    model_config = pydantic.ConfigDict(frozen=True, extra="forbid", validate_by_name=True, validate_by_alias=True)

    def __init__(self, **values: Any) -> None:
        """Take the values of its fields; raise `InputError` for the first that is wrong."""
        try:
            super().__init__(**values)
        except pydantic.ValidationError as error:
            raise _first_error(type(self), error, None) from None

    # Otherwise models within models would be made by it as well, and no error would know where it stands.
    __init__.__pydantic_base_init__ = True  # type: ignore[attr-defined]

    def __eq__(self, other: object) -> bool:
        """Compare fields, and not what was worked out from them and kept."""
        if type(self) is not type(other):
            return NotImplemented
        return all(getattr(self, name) == getattr(other, name) for name in type(self).model_fields)

    def model_copy(self, *, update: Mapping[str, Any] | None = None, deep: bool = False) -> Self:
        """Return a copy with some fields changed, that works out anew whatever properties follow from its fields."""
        copied = super().model_copy(update=update, deep=deep)
        for name in copied.__dict__.keys() - type(self).model_fields.keys():
            del copied.__dict__[name]
        return copied


ModelType = TypeVar("ModelType", bound=Model)


class HasName(Protocol):
    """What `find_named` finds."""

    @property
    def name(self) -> str:
        """What it is called."""


Named = TypeVar("Named", bound=HasName)


def read_model(path: str | Path, model: type[ModelType], *, kind: str) -> ModelType:
    """Read a TOML file that says ``format = "vinecompass KIND"`` and ``version = 1`` into a `Model`.

    Raises
    ------
    InputError
        Naming the file, the key, its value and what was expected; for an unknown key, the nearest known one.
    """
    return parse_model(read_text(path), model, kind=kind, file=path)


def parse_model(text: str, model: type[ModelType], *, kind: str, file: str | Path) -> ModelType:
    """Do as `read_model` with the text of a file; `file` is named in errors."""
    keys = re.findall(r"^\s*(?:\[[^\]\n]*|[^=#\n\[]*=)", text, re.MULTILINE)
    deepest = max((key.count(".") for key in keys), default=0)
    if max(deepest, text.count("[[[")) > DEEPEST:
        raise InputError("is nested deeper than anything known", file=file, expected=f"at most {DEEPEST} levels")
    try:
        document = tomllib.loads(text)
    except (ValueError, RecursionError) as error:
        raise InputError(f"is not TOML: {shortened(str(error))}", file=file) from None
    for key, wanted in (("format", f"vinecompass {kind}"), ("version", 1)):
        found = document.pop(key, None)
        if found != wanted:
            raise InputError(
                "is missing" if found is None else "is another format",
                file=file,
                key=key,
                value=found,
                expected=f'"{wanted}"' if key == "format" else "1",
            )
    _check_lists(document, "", file)
    return validated(model, document, file)


def _check_lists(value: Any, key: str, file: str | Path) -> None:
    """Raise `InputError` for a list that is longer than anything a person or this package writes."""
    inner: Iterable[tuple[str, Any]] = ()
    if isinstance(value, list):
        if len(value) > LONGEST_LIST:
            raise InputError(f"has {len(value)} entries", file=file, key=key, expected=f"at most {LONGEST_LIST}")
        inner = ((key, each) for each in value)
    elif isinstance(value, dict):
        inner = ((f"{key}.{name}".lstrip("."), each) for name, each in value.items())
    for name, each in inner:
        _check_lists(each, name, file)


def validated(model: type[ModelType], values: dict[str, Any], file: str | Path) -> ModelType:
    """Make a `Model` from plain values, or raise `InputError` for the first of them that is wrong."""
    try:
        return model.model_validate(values, by_alias=True, by_name=False)
    except pydantic.ValidationError as error:
        raise _first_error(model, error, file) from None


def _first_error(model: type[Model], error: pydantic.ValidationError, file: str | Path | None) -> InputError:
    """Return the first of what is wrong with a model's values, unknown keys before all else, and where more is."""
    details = error.errors(include_url=False)
    first = min(details, key=lambda detail: detail["type"] != "extra_forbidden")
    others = list(dict.fromkeys(shortened(_key_of(detail) or "") for detail in details if detail is not first))
    told = ", ".join(others[:OTHERS_NAMED]) + (", ..." if len(others) > OTHERS_NAMED else "")
    more = f" (and {len(details) - 1} more: {told})" if len(details) > 1 else ""
    return _input_error(model, first, file, more)


def _key_of(detail: Any) -> str | None:
    """Return where something is wrong, as ``lidar[0].beams``."""
    return "".join(f"[{part}]" if isinstance(part, int) else f".{part}" for part in detail["loc"]).lstrip(".") or None


def _input_error(model: type[Model], detail: Any, file: str | Path | None, more: str) -> InputError:
    location, key = detail["loc"], _key_of(detail)
    if detail["type"] == "extra_forbidden":
        known = list(_fields_by_key(_model_at(model, location[:-1])))
        nearest = difflib.get_close_matches(str(location[-1]), known, n=1, cutoff=0.0)
        return InputError(
            f"is not a known key{more}", file=file, key=key, value=detail["input"], expected=f"perhaps `{nearest[0]}`"
        )
    message = _in_words(detail)
    # What is wrong with a whole table says itself what belongs there.
    is_table = detail["type"] == "value_error" and isinstance(detail["input"], dict)
    expected = None if is_table else _description(model, location)
    if detail["type"] == "missing":
        return InputError(f"is missing{more}", file=file, key=key, expected=expected or "a value")
    value = None if isinstance(detail["input"], dict) else detail["input"]
    return InputError(f"{message[:1].lower()}{message[1:]}{more}", file=file, key=key, value=value, expected=expected)


def _in_words(detail: Any) -> str:
    """Return what is wrong with a value, as people say it."""
    context = detail.get("ctx", {})
    if detail["type"] in ("too_short", "too_long"):
        least, most = context.get("min_length"), context.get("max_length")
        bound = f"at least {least}" if least is not None else f"at most {most}"
        return f"has {context.get('actual_length')} entries, where {bound} belong"
    return str(detail["msg"]).removeprefix("Value error, ").removeprefix("Input ")


def _fields_by_key(model: type[Model]) -> dict[str, FieldInfo]:
    """Return a model's fields by the keys that files have for them."""
    return {field.alias or name: field for name, field in model.model_fields.items()}


def _model_at(model: type[Model], location: tuple[Any, ...]) -> type[Model]:
    """Follow a key path through nested models, lists of models and optional models."""
    for part in location:
        fields = _fields_by_key(model)
        if isinstance(part, str) and part in fields:
            pending = [fields[part].annotation]
            while pending:
                annotation = pending.pop()
                if isinstance(annotation, type) and issubclass(annotation, Model):
                    model = annotation
                    break
                pending.extend(get_args(annotation))
    return model


def _description(model: type[Model], location: tuple[Any, ...]) -> str | None:
    # Of a corner of a polygon, the polygon's; what stands above that says nothing of it.
    for depth in range(len(location) - 1, max(len(location) - 4, -1), -1):
        field = _fields_by_key(_model_at(model, location[:depth])).get(location[depth])
        if field is not None:
            return field.description
    return None


def find_named(items: Sequence[Named], name: str, *, kind: str, where: str) -> Named:
    """Return the item of that name, or raise `InputError` that lists the known ones."""
    for item in items:
        if item.name == name:
            return item
    known = ", ".join(item.name for item in items) or "none"
    raise InputError(f"no {kind} of that name in {where}", key=kind, value=name, expected=f"one of: {known}")
