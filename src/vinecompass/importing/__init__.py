"""Runs from tables that anyone recorded."""

from vinecompass.importing.counters import unwrapped
from vinecompass.importing.guess import Guess, guess_format
from vinecompass.importing.import_tables import import_run
from vinecompass.importing.table_format import TableFormat

__all__ = [
    "Guess",
    "TableFormat",
    "guess_format",
    "import_run",
    "unwrapped",
]
