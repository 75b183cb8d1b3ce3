"""What a mission leaves behind: its states and reasons, its plans, what safety did, and how each stop ended."""

from __future__ import annotations

import json
import re
from collections.abc import Sequence
from dataclasses import dataclass, field
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from vinecompass.following import Encounter
from vinecompass.motion import Command

__all__ = ["EncounterEntry", "Intervention", "MissionLog", "Notice", "StateEntry", "StopResult"]

NUMBER = re.compile(r"-?\d+(\.\d+)?")


@dataclass(frozen=True)
class StateEntry:
    """A state began: when, on the way to which stop, and why."""

    t: float
    state: str
    stop: str
    reason: str


@dataclass(frozen=True)
class Notice:
    """Something was found out about the site or the robot: when, and what."""

    t: float
    text: str


@dataclass
class Intervention:
    """Safety changed what was wanted, from one time to another, by one rule.

    Parameters
    ----------
    begin, end : float
        Seconds.
    rule : str
    wanted, given : Command
        Where the two lay farthest apart.
    numbers : dict of str to float
        What it was decided by there, each name with its unit.
    """

    begin: float
    end: float
    rule: str
    wanted: Command
    given: Command
    numbers: dict[str, float]

    def __str__(self) -> str:
        numbers = ", ".join(f"{name} {value:.2f}" for name, value in self.numbers.items())
        return (
            f"{self.begin:.1f} to {self.end:.1f} s: {self.rule}: {self.wanted.speed:.2f} m/s and "
            f"{self.wanted.turn_rate:.2f} rad/s wanted, {self.given.speed:.2f} and {self.given.turn_rate:.2f} given"
            + (f" ({numbers})" if numbers else "")
        )


@dataclass(frozen=True)
class StopResult:
    """How a stop ended.

    Parameters
    ----------
    name : str
    status : {"reached", "failed", "cancelled"}
    reason : str
        Why it was not reached; empty if it was.
    t : float
        When, s.
    pose : array, (3,)
        Where the robot believed to be then, in the site frame.
    goal : array, (3,)
    """

    name: str
    status: Literal["reached", "failed", "cancelled"]
    reason: str
    t: float
    pose: NDArray[np.float64]
    goal: NDArray[np.float64]


@dataclass(frozen=True)
class EncounterEntry:
    """A situation with a person began: when, with which one, what it is called, and their relation in words."""

    t: float
    person: int | str
    state: str
    relation: str


@dataclass
class MissionLog:
    """Everything a navigator notes down, in the order of time.

    Parameters
    ----------
    states : list of StateEntry
    plans : list of (t, poses)
        Every global plan taken up, the poses ``(N, 3)`` in the site frame.
    interventions : list of Intervention
    stops : list of StopResult
    notices : list of Notice
        What it found out about site and robot that the files do not say.
    encounters : list of EncounterEntry
        Situations with people, by their names, or numbered in the order in which they were given.
    """

    states: list[StateEntry] = field(default_factory=list)
    plans: list[tuple[float, NDArray[np.float64]]] = field(default_factory=list)
    interventions: list[Intervention] = field(default_factory=list)
    stops: list[StopResult] = field(default_factory=list)
    notices: list[Notice] = field(default_factory=list)
    encounters: list[EncounterEntry] = field(default_factory=list)

    def enter(self, t: float, state: str, stop: str, reason: str) -> None:
        """Note a state, unless it and its reason go on; a reason of which only the numbers change does."""
        last = self.states[-1] if self.states else None
        goes_on = last is not None and (last.state, last.stop) == (state, stop)
        if last is None or not goes_on or _wording(last.reason) != _wording(reason):
            self.states.append(StateEntry(t, state, stop, reason))

    def meet(self, t: float, encounters: Sequence[Encounter]) -> None:
        """Note what each person's situation has become, where it is another than before."""
        for number, each in enumerate(encounters):
            person = each.person.name or number
            before = next((entry.state for entry in reversed(self.encounters) if entry.person == person), "none")
            if each.state != before:
                self.encounters.append(EncounterEntry(t, person, each.state, str(each.relation)))

    def intervene(
        self, t: float, duration: float, rule: str, wanted: Command, given: Command, numbers: dict[str, float]
    ) -> None:
        """Note that safety gave another command than was wanted; by the same rule as just before, it goes on."""
        last = self.interventions[-1] if self.interventions else None
        if last is None or last.rule != rule or t - last.end > 1.5 * duration:
            self.interventions.append(Intervention(t, t + duration, rule, wanted, given, numbers))
            return
        last.end = t + duration
        if _apart(wanted, given) > _apart(last.wanted, last.given):
            last.wanted = wanted
            last.given = given
            last.numbers = numbers

    def records(self) -> dict[str, list[dict[str, Any]]]:
        """Return what was noted down, by the names of the files that hold it, as rows of what JSON can say."""
        plans = [{"t": t, "poses": poses.round(4).tolist()} for t, poses in self.plans]
        return {
            "states": [vars(entry) for entry in self.states],
            "plans": plans,
            "interventions": [
                {
                    "begin": each.begin,
                    "end": each.end,
                    "rule": each.rule,
                    "wanted": vars(each.wanted),
                    "given": vars(each.given),
                    "numbers": each.numbers,
                }
                for each in self.interventions
            ],
            "notices": [vars(entry) for entry in self.notices],
            "encounters": [vars(entry) for entry in self.encounters],
            "stops": [
                {
                    "t": stop.t,
                    "name": stop.name,
                    "status": stop.status,
                    "reason": stop.reason,
                    "pose": stop.pose.tolist(),
                    "goal": stop.goal.tolist(),
                }
                for stop in self.stops
            ],
        }

    def files(self) -> dict[str, bytes]:
        """Return the record as files of a run folder, a JSON object a line: states, plans, and all the rest."""
        return {
            f"{name}.jsonl": "".join(json.dumps(row) + "\n" for row in rows).encode()
            for name, rows in self.records().items()
        }


def _wording(reason: str) -> str:
    """Return a reason without its numbers."""
    return NUMBER.sub("", reason)


def _apart(one: Command, other: Command) -> float:
    return abs(one.speed - other.speed) + abs(one.turn_rate - other.turn_rate) + abs(one.sideways - other.sideways)
