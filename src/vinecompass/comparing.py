"""Things made of arrays, compared by what they hold."""

from __future__ import annotations

from dataclasses import fields, is_dataclass
from typing import Any

import numpy as np

__all__ = ["ByValue"]


class ByValue:
    """Base of frozen dataclasses, made with ``eq=False``, some of whose fields are arrays.

    Two are equal if they are of one type and hold the same numbers, `nan` beside `nan` counting as the same.
    They can be put in no set.
    """

    __hash__ = None  # type: ignore[assignment]

    def __eq__(self, other: object) -> bool:
        """Compare all fields."""
        if type(self) is not type(other):
            return NotImplemented
        return _same_fields(self, other)


def _same(one: Any, other: Any) -> bool:
    if isinstance(one, np.ndarray) and isinstance(other, np.ndarray):
        return np.array_equal(one, other, equal_nan=one.dtype.kind == "f" and other.dtype.kind == "f")
    if isinstance(one, np.ndarray) or isinstance(other, np.ndarray):
        return False
    if isinstance(one, dict) and isinstance(other, dict):
        return one.keys() == other.keys() and all(_same(value, other[key]) for key, value in one.items())
    if isinstance(one, (list, tuple)) and type(one) is type(other):
        return len(one) == len(other) and all(map(_same, one, other))
    if is_dataclass(one) and type(one) is type(other):
        return _same_fields(one, other)
    return bool(one == other or (one != one and other != other))


def _same_fields(one: Any, other: Any) -> bool:
    return all(_same(getattr(one, each.name), getattr(other, each.name)) for each in fields(one))
