"""What a navigator is doing."""

from __future__ import annotations

from enum import StrEnum

__all__ = ["State"]


class State(StrEnum):
    """The states of a mission; each is equal to its own text."""

    FINDING_ITSELF = "finding itself"
    DRIVING = "driving"
    RECOVERING = "recovering"
    DWELLING = "dwelling"
    """At a stop."""
    STALE = "stale"
    """Standing for want of good input."""
    HOLDING = "holding"
    MANUAL = "manual"
    """As it was told: a person drives."""
    FINISHED = "finished"
    FAILED = "failed"

    @property
    def over(self) -> bool:
        """Whether the round is over."""
        return self in (State.FINISHED, State.FAILED)

    @property
    def told(self) -> bool:
        """Whether somebody told it to hold or drives it by hand."""
        return self in (State.HOLDING, State.MANUAL)
