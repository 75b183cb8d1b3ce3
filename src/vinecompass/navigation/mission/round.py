"""A round: stops to reach in their order, each with its tolerances and with what to do when it cannot be reached."""

from __future__ import annotations

from collections.abc import Sequence
from dataclasses import dataclass
from pathlib import Path
from typing import Literal

import numpy as np
from numpy.typing import ArrayLike, NDArray
from pydantic import Field, model_validator

from vinecompass.door import checked
from vinecompass.files import Count, Model, NotNegative, Number, Positive, find_named, read_model
from vinecompass.geometry import checked_pose
from vinecompass.grids import Grid
from vinecompass.settings import NamedPose

__all__ = ["Round", "RoundStop", "StopGoal", "checked_goals", "read_round"]


class RoundStop(Model):
    """One ``[[stop]]`` of a round: a stop of the site by its name, or a pose."""

    name: str | None = Field(None, description="the name of a stop; with a pose, what to call it")
    pose: tuple[Number, Number, Number] | None = Field(None, description="[x, y, heading_deg] in the site frame")
    position_tolerance: Positive = Field(0.05, description="the position is reached within this, m")
    heading_tolerance_deg: Positive = Field(2.0, description="the heading is reached within this, degrees")
    patience: NotNegative = Field(120.0, description="how long it waits where nothing else helps, s")
    dwell: NotNegative = Field(0.0, description="how long it stands there, s")
    on_failure: Literal["skip", "stop", "retry"] = Field("skip", description='"skip", "stop" or "retry"')
    retries: Count = Field(1, description="how often it is tried again, a whole number; then it is skipped")

    @model_validator(mode="after")
    def _is_somewhere(self) -> RoundStop:
        if self.name is None and self.pose is None:
            raise ValueError("a stop needs a name or a pose")
        return self


class Round(Model):
    """A round, as `read_round` reads it from a ``round.toml``.

    Where it starts is said once: by `start`, by the name of a `dock` in the settings or the site's stops, or not at
    all (`found`): then the robot first finds out where it is.
    """

    name: str = Field("round", description="a name")
    start: tuple[Number, Number, Number] | None = Field(None, description="[x, y, heading_deg], where it is told to be")
    dock: str | None = Field(None, description="the name of the dock or stop that it starts from")
    found: bool = Field(False, description="whether it must find out where it is")
    stops: list[RoundStop] = Field(alias="stop", min_length=1, description="[[stop]] tables, one or more")

    @model_validator(mode="after")
    def _starts_once(self) -> Round:
        if sum((self.start is not None, self.dock is not None, self.found)) > 1:
            raise ValueError("give only one of start, dock and found")
        return self

    def goals(self, known: Sequence[NamedPose] = (), *, where: str = "the site") -> list[StopGoal]:
        """Return the stops with their poses.

        Raises
        ------
        InputError
            A stop is named that is not among the known ones.
        """
        return [
            StopGoal(
                stop.name or f"stop {number}",
                find_named(known, stop.name or "", kind="stop", where=where).site_pose
                if stop.pose is None
                else _pose(stop.pose),
                stop,
            )
            for number, stop in enumerate(self.stops, 1)
        ]

    def initial_pose(
        self, docks: Sequence[NamedPose], usual: ArrayLike | None, *, where: str = "the settings"
    ) -> NDArray[np.float64] | None:
        """Return where the robot is told to be ``(3,)``, or None where it must find out.

        Parameters
        ----------
        docks : sequence of NamedPose
            What `dock` may name.
        usual : array_like, (3,), optional
            Where it starts if the round does not say.
        """
        if self.found:
            return None
        if self.start is not None:
            return _pose(self.start)
        if self.dock is not None:
            return find_named(docks, self.dock, kind="dock", where=where).site_pose
        return None if usual is None else np.asarray(usual, dtype=float)

    @classmethod
    def to_pose(cls, goal: ArrayLike, name: str = "goal") -> Round:
        """Return the round whose only stop is a pose ``(3,)``, m and radians."""
        x, y, heading = checked_pose(goal, "goal").tolist()
        return cls(stops=[RoundStop(name=name, pose=(x, y, float(np.degrees(heading))))])


@dataclass(frozen=True)
class StopGoal:
    """A stop and where it is.

    Parameters
    ----------
    name : str
    pose : array, (3,)
        In the site frame, m and radians.
    rules : RoundStop
        Tolerances, dwell, and what to do on failure.
    """

    name: str
    pose: NDArray[np.float64]
    rules: RoundStop


def checked_goals(grid: Grid, goals: Sequence[StopGoal] | ArrayLike) -> list[StopGoal]:
    """Return stops, or the one stop at a pose ``(3,)``; raise `InputError` if one lies off the map."""
    if isinstance(goals, (list, tuple)) and goals and isinstance(goals[0], StopGoal):
        stops = list(goals)
    else:
        stops = Round.to_pose(goals).goals()  # type: ignore[arg-type]
    for stop in stops:
        grid.pose_on_map(stop.pose, f"stop {stop.name!r}")
    return stops


def _pose(values: tuple[float, float, float]) -> NDArray[np.float64]:
    return np.array([values[0], values[1], np.radians(values[2])])


@checked
def read_round(path: str | Path) -> Round:
    """Read a ``round.toml``; raise `InputError` naming file, key, value and expectation for what is wrong in it."""
    return read_model(path, Round, kind="round")
