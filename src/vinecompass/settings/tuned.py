"""What a tuner needs to know of a setting, kept with the setting itself."""

from __future__ import annotations

from dataclasses import dataclass
from math import log
from typing import Any

from pydantic import Field
from pydantic.fields import FieldInfo

__all__ = ["Span", "by_factor", "evenly", "span_of", "tuned"]

FARTHEST = 10.0
"""Times the upper end of what makes sense, beyond which a value is refused: it is a slip of the pen."""


@dataclass(frozen=True)
class Span:
    """The values of a setting that make sense.

    Parameters
    ----------
    low, high : float
    logarithmic : bool
        Whether it matters by how many times it changes, and not by how much.
    trades : str
        What more of it gains, against what.
    """

    low: float
    high: float
    logarithmic: bool
    trades: str = ""

    def at(self, shares: Any) -> Any:
        """Return the values at shares of the way from low to high, 0 to 1, by factors where those matter."""
        if self.logarithmic:
            return self.low * (self.high / self.low) ** shares
        return self.low + (self.high - self.low) * shares

    def share_of(self, value: float) -> float:
        """Return the share of the way at which a value is."""
        if self.logarithmic:
            return log(value / self.low) / log(self.high / self.low)
        return (value - self.low) / (self.high - self.low)


def evenly(low: float, high: float) -> Span:
    """Return a span in which equal steps matter equally."""
    return Span(low, high, logarithmic=False)


def by_factor(low: float, high: float) -> Span:
    """Return a span in which equal factors matter equally."""
    return Span(low, high, logarithmic=True)


def tuned(default: float, span: Span, description: str, trades: str) -> Any:
    """Return the field of a number that can be tuned; what is above ten times the span's end is refused."""
    return Field(
        default,
        le=FARTHEST * span.high,
        description=description,
        json_schema_extra={"span": {**vars(span), "trades": trades}},
    )


def span_of(field: FieldInfo) -> Span | None:
    """Return the values of a field that make sense; None of one that is no number to be tuned."""
    extra = field.json_schema_extra
    return Span(**extra["span"]) if isinstance(extra, dict) and "span" in extra else None  # type: ignore[arg-type]
