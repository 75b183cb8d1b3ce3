"""Files that are read with suspicion and written whole, never over something else; TOML, and validated models."""

from vinecompass.files.folders import one_writer
from vinecompass.files.models import (
    AtLeastOne,
    Count,
    Fraction,
    Model,
    Near,
    NotNegative,
    Number,
    Positive,
    Rate,
    Size,
    Speed,
    Whole,
    find_named,
    parse_model,
    read_model,
    validated,
)
from vinecompass.files.reading import read_bytes, read_text
from vinecompass.files.replacing import FIGURE, FILM, MADE_BY, TRACK, check_replaced, is_forced, replacing_anything
from vinecompass.files.writing import atomic_folder, atomic_write, check_replaceable, check_suffix

__all__ = [
    "FIGURE",
    "FILM",
    "MADE_BY",
    "TRACK",
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
    "atomic_folder",
    "atomic_write",
    "check_replaceable",
    "check_replaced",
    "check_suffix",
    "find_named",
    "is_forced",
    "one_writer",
    "parse_model",
    "read_bytes",
    "read_model",
    "read_text",
    "replacing_anything",
    "validated",
]
