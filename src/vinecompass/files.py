"""Files that are read with suspicion and written whole: atomic writes, TOML, and validated models."""

from __future__ import annotations

import difflib
import os
import shutil
import tempfile
import tomllib
from collections.abc import Iterator, Mapping, Sequence
from contextlib import contextmanager
from pathlib import Path
from typing import Annotated, Any, Protocol, Self, TypeVar, get_args

import pydantic
from annotated_types import Ge, Gt, Le
from pydantic import AllowInfNan, Strict
from pydantic.fields import FieldInfo

from vinecompass.errors import InputError

__all__ = [
    "AtLeastOne",
    "Count",
    "Fraction",
    "Model",
    "NotNegative",
    "Number",
    "Positive",
    "Whole",
    "atomic_folder",
    "atomic_write",
    "check_replaceable",
    "check_suffix",
    "find_named",
    "parse_model",
    "read_bytes",
    "read_model",
    "read_text",
    "validated",
]

LARGEST_TEXT = 32 * 2**20
"""Bytes. A settings, robot or site file beyond this is not one."""

Number = Annotated[float, Strict(), AllowInfNan(False)]
Positive = Annotated[Number, Gt(0.0)]
NotNegative = Annotated[Number, Ge(0.0)]
AtLeastOne = Annotated[Number, Ge(1.0)]
Fraction = Annotated[Number, Ge(0.0), Le(1.0)]
Whole = Annotated[int, Strict(), Ge(1)]
Count = Annotated[int, Strict(), Ge(0)]


class Model(pydantic.BaseModel):
    """Base of everything read from a file that a person writes: frozen, and no unknown keys.

    A list of tables is called in the plural in Python, and by what each of its tables is, its alias, in a file.
    """

    model_config = pydantic.ConfigDict(frozen=True, extra="forbid", validate_by_name=True, validate_by_alias=True)

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


@contextmanager
def _readable(path: Path) -> Iterator[None]:
    try:
        yield
    except FileNotFoundError:
        raise InputError("no such file", file=path) from None
    except IsADirectoryError:
        raise InputError("is a folder", file=path, expected="a file") from None
    except OSError as error:
        raise InputError(f"cannot be read ({error.strerror})", file=path) from None


def read_bytes(path: str | Path, *, largest: int) -> bytes:
    """Read a file of at most `largest` bytes; raise `InputError` if it is missing, unreadable or larger."""
    path = Path(path)
    with _readable(path):
        if path.stat().st_size > largest:
            raise InputError(f"holds {path.stat().st_size} bytes", file=path, expected=f"at most {largest}")
        return path.read_bytes()


def read_text(path: str | Path) -> str:
    """Read a text file in UTF-8; raise `InputError` if it is missing, unreadable, too large or not text."""
    try:
        return read_bytes(path, largest=LARGEST_TEXT).decode("utf-8")
    except UnicodeDecodeError:
        raise InputError("is not text in UTF-8", file=path) from None


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
    try:
        document = tomllib.loads(text)
    except tomllib.TOMLDecodeError as error:
        raise InputError(f"is not TOML: {error}", file=file) from None
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
    return validated(model, document, file)


def validated(model: type[ModelType], values: dict[str, Any], file: str | Path) -> ModelType:
    """Make a `Model` from plain values, or raise `InputError` for the first of them that is wrong."""
    try:
        return model.model_validate(values, by_alias=True, by_name=False)
    except pydantic.ValidationError as error:
        details = error.errors(include_url=False)
        first = min(details, key=lambda detail: detail["type"] != "extra_forbidden")
        more = f" (and {len(details) - 1} more)" if len(details) > 1 else ""
        raise _input_error(model, first, file, more) from None


def _input_error(model: type[Model], detail: Any, file: str | Path, more: str) -> InputError:
    location = detail["loc"]
    key = "".join(f"[{part}]" if isinstance(part, int) else f".{part}" for part in location).lstrip(".") or None
    if detail["type"] == "extra_forbidden":
        known = list(_fields_by_key(_model_at(model, location[:-1])))
        nearest = difflib.get_close_matches(str(location[-1]), known, n=1, cutoff=0.0)
        return InputError(
            f"is not a known key{more}", file=file, key=key, value=detail["input"], expected=f"perhaps `{nearest[0]}`"
        )
    message = detail["msg"].removeprefix("Value error, ")
    expected = _description(model, location)
    if detail["type"] == "missing":
        return InputError(f"is missing{more}", file=file, key=key, expected=expected or "a value")
    value = None if isinstance(detail["input"], dict) else detail["input"]
    return InputError(f"{message[:1].lower()}{message[1:]}{more}", file=file, key=key, value=value, expected=expected)


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
    for depth in range(len(location) - 1, -1, -1):
        field = _fields_by_key(_model_at(model, location[:depth])).get(location[depth])
        if field is not None:
            return field.description
    return None


def atomic_write(path: str | Path, content: bytes | str) -> Path:
    """Write a file so that a reader sees the old content or the new, never a part: write beside it, flush, rename."""
    path = Path(path)
    data = content.encode("utf-8") if isinstance(content, str) else content
    _make_parent(path)
    descriptor, temporary = tempfile.mkstemp(prefix=f".{path.name}.", suffix=".partial", dir=path.parent)
    try:
        with os.fdopen(descriptor, "wb") as handle:
            handle.write(data)
            handle.flush()
            os.fsync(handle.fileno())
        os.chmod(temporary, 0o644)
        os.replace(temporary, path)
    except BaseException as error:
        Path(temporary).unlink(missing_ok=True)
        if isinstance(error, OSError):
            raise InputError(f"cannot be written ({error.strerror})", file=path) from None
        raise
    return path


def check_replaceable(path: str | Path, *, marker: str) -> None:
    """Raise `InputError` unless a folder is new, empty, or holds `marker`: worth knowing before long work for it."""
    path = Path(path)
    if path.exists() and not (path / marker).is_file() and not (path.is_dir() and not any(path.iterdir())):
        raise InputError(f"exists and holds no {marker}", file=path, expected="a new name, or a folder to replace")


def check_suffix(path: str | Path, suffix: str) -> Path:
    """Return a path whose name ends in `suffix`, or raise `InputError`."""
    path = Path(path)
    if path.suffix.lower() != suffix:
        raise InputError("is not a name for this file", file=path, expected=f"a name that ends in {suffix}")
    return path


@contextmanager
def atomic_folder(path: str | Path, *, marker: str) -> Iterator[Path]:
    """Fill a folder under a temporary name and put it in place whole when the block ends without an error.

    An existing folder is replaced only if it holds `marker`, the file that shows it is of the same kind.
    """
    path = Path(path)
    check_replaceable(path, marker=marker)
    _make_parent(path)
    temporary = Path(tempfile.mkdtemp(prefix=f".{path.name}.", suffix=".partial", dir=path.parent))
    try:
        yield temporary
        os.chmod(temporary, 0o755)
        if path.exists():
            old = Path(tempfile.mkdtemp(prefix=f".{path.name}.", suffix=".old", dir=path.parent))
            os.replace(path, old / path.name)
            os.replace(temporary, path)
            shutil.rmtree(old)
        else:
            os.replace(temporary, path)
    finally:
        shutil.rmtree(temporary, ignore_errors=True)


def find_named(items: Sequence[Named], name: str, *, kind: str, where: str) -> Named:
    """Return the item of that name, or raise `InputError` that lists the known ones."""
    for item in items:
        if item.name == name:
            return item
    known = ", ".join(item.name for item in items) or "none"
    raise InputError(f"no {kind} of that name in {where}", key=kind, value=name, expected=f"one of: {known}")


def _make_parent(path: Path) -> None:
    try:
        path.parent.mkdir(parents=True, exist_ok=True)
    except OSError as error:
        raise InputError(f"cannot be made ({error.strerror})", file=path.parent, expected="a folder") from None
