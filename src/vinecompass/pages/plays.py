"""What a replay plays: moments, scans and events of a mission, of a run on a map, or of a map as it came about."""

from __future__ import annotations

import json
from collections.abc import Iterator, Sequence
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any, Literal

import numpy as np
from numpy.typing import NDArray

from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.files import read_text
from vinecompass.geometry import transform_points
from vinecompass.grids import Grid
from vinecompass.localization import localize
from vinecompass.mapping import Mapping as MappedRun
from vinecompass.odometry import deskewed_hits, motions
from vinecompass.rehearsal import Moment, MomentLog, Rehearsal, read_moments
from vinecompass.rehearsal.moments import some_of
from vinecompass.runs import Run, Track, read_run, rows_of
from vinecompass.runs.run_files import RECORDS

__all__ = [
    "Event",
    "EventReader",
    "Play",
    "play_of_mapping",
    "play_of_mission",
    "play_of_run",
    "read_play",
    "scan_points",
]

FloatArray = NDArray[np.float64]
Kind = Literal["stop", "state", "plan", "safety", "people", "notice", "loop", "trouble"]
SCAN_POINTS = 180
"""Most of a scan's points that are drawn."""
PERIOD = 0.2
"""Seconds between two moments of a run that was driven by others."""
STATES_OF_TROUBLE = ("recovering", "stale", "failed", "lost", "doubtful", "emergency")
"""States that are marked as trouble."""


@dataclass(frozen=True)
class Event:
    """Something that happened, to be marked on the line of time.

    Parameters
    ----------
    t : float
        Seconds.
    kind : str
        What it is of: "stop", "state", "plan", "safety", "people", "notice", "loop" or "trouble".
    text : str
    """

    t: float
    kind: Kind
    text: str


@dataclass(frozen=True)
class Play:
    """One thing to be played.

    Parameters
    ----------
    name, finding : str
        What it is called, and what came of it in a sentence.
    run : Run
        Whose scans are drawn, placed by the moments, and whose truth is drawn if it is known.
    moments : list of Moment
    events : list of Event
        In the order of time.
    plans : list of (float, array)
        Each global plan ``(N, 3)`` and when it was taken up, s.
    grows : bool
        Whether the map came about by it: then its scans are drawn as they come, in place of the map.
    """

    name: str
    finding: str
    run: Run
    moments: list[Moment]
    events: list[Event] = field(default_factory=list)
    plans: list[tuple[float, FloatArray]] = field(default_factory=list)
    grows: bool = False

    def __post_init__(self) -> None:
        if not self.moments:
            raise InputError("has nothing to play", key=self.name, expected="a run with scans")

    @property
    def t(self) -> FloatArray:
        """Of each moment ``(N,)``, s."""
        return np.array([each.t for each in self.moments])

    @property
    def poses(self) -> FloatArray:
        """Where the robot believed to be ``(N, 3)``, m and radians."""
        return np.array([each.pose for each in self.moments])


@checked
def play_of_mission(mission: Rehearsal, log: MomentLog, name: str = "mission") -> Play:
    """Return a mission to be played, with the moments that were kept while it was driven."""
    return _of_records(mission.run, log.moments, mission.log.records(), name)


@checked
def play_of_run(run: Run, grid: Grid, name: str = "run", *, start: FloatArray | None = None, seed: int = 0) -> Play:
    """Return a recorded run to be played, localized on a map from where it began, or from another start."""
    found = localize(grid, run, run.start if start is None else start, seed=seed)
    events = [_of_state(change.t, change.state, change.reason) for change in found.changes]
    said = found.states()
    moments = _moments(
        run, found.track, lambda i: (str(said[i]), _share(float(found.agreements[i]), "of the beams agree"))
    )
    share = float(np.mean(said == "tracking"))
    return Play(name, f"{name}: tracked for {100.0 * share:.0f} % of {_seconds(moments):.0f} s", run, moments, events)


@checked
def play_of_mapping(run: Run, mapping: MappedRun, name: str = "run") -> Play:
    """Return a recorded run to be played as its map came about."""
    moments = _moments(
        run, mapping.track, lambda i: ("mapping", _share(float(mapping.agreements[i]), "of its points by a wall"))
    )
    events = [Event(moments[-1].t, "notice", note) for note in mapping.notes]
    for loop in mapping.mapper.loops:
        word = "was not taken for" if loop.refused else "shows"
        text = f"submap {loop.submap} {word} what submap {loop.former} showed"
        events.append(
            Event(loop.t, "loop", f"{text}: {loop.refused}" if loop.refused else f"{text}; took out {loop.drift:.2f} m")
        )
    closed = len(mapping.mapper.closed_loops)
    finding = f"{name}: mapped in {len(mapping.track)} scans, {closed} loops closed"
    return Play(name, finding, run, moments, sorted(events, key=lambda each: each.t), grows=True)


@checked
def read_play(folder: str | Path, grid: Grid | None, *, start: FloatArray | None = None, seed: int = 0) -> Play:
    """Read what is to be played: a mission with its record, or a run, which is localized on a map.

    Raises
    ------
    InputError
        It is no run, or damaged; or it has no record and there is no map.
    """
    folder = Path(folder)
    run, moments = read_run(folder), read_moments(folder)
    if moments:
        return _of_records(run, moments, _records(folder), folder.name)
    if grid is None:
        raise InputError("has no record of what was believed", file=folder, expected="a map to localize it on")
    return play_of_run(run, grid, folder.name, start=start, seed=seed)


def _of_records(run: Run, moments: list[Moment], records: dict[str, list[dict[str, Any]]], name: str) -> Play:
    """Return a mission by what it noted down."""
    try:
        plans = [(float(row["t"]), np.array(row["poses"], float).reshape(-1, 3)) for row in records["plans"]]
        events = list(EventReader().read(records))
        stops = records["stops"]
        reached = sum(row["status"] == "reached" for row in stops)
    except (KeyError, TypeError, ValueError) as error:
        raise InputError(
            f"has a damaged record ({error!r})"[:200], key=name, expected="a mission as `drive` writes it"
        ) from None
    finding = f"{name}: reached {reached} of {len(stops)} stops in {_seconds(moments):.0f} s"
    return Play(name, finding, run, moments, sorted(events, key=lambda each: each.t), plans)


class EventReader:
    """Makes events of what a mission notes down, as rows come in."""

    def __init__(self) -> None:
        self._state = ""
        self._planned = False

    def read(self, records: dict[str, list[dict[str, Any]]]) -> Iterator[Event]:
        """Yield the events of some rows of each record."""
        for row in records["states"]:
            if row["state"] != self._state:
                words = f"{row['state']} to {row['stop']}" if row["stop"] else str(row["state"])
                yield _of_state(float(row["t"]), str(row["state"]), str(row["reason"]), words)
            self._state = row["state"]
        for row in records["plans"]:
            yield Event(float(row["t"]), "plan", "planned anew" if self._planned else "first plan")
            self._planned = True
        for row in records["interventions"]:
            yield Event(float(row["begin"]), "safety", f"safety: {row['rule']}")
        for row in records["notices"]:
            yield Event(float(row["t"]), "notice", str(row["text"]))
        for row in records["encounters"]:
            yield Event(float(row["t"]), "people", f"{row['person']}: {row['state']}")
        for row in records["stops"]:
            words = f"{row['name']} {row['status']}" + (f": {row['reason']}" if row["reason"] else "")
            yield Event(float(row["t"]), "stop", words)


def _of_state(t: float, state: str, reason: str, text: str = "") -> Event:
    words = (text or state) + (f": {reason}" if reason else "")
    return Event(t, "trouble" if state in STATES_OF_TROUBLE else "state", words)


def _records(folder: Path) -> dict[str, list[dict[str, Any]]]:
    """Read the lines of JSON that a mission noted down."""
    found: dict[str, list[dict[str, Any]]] = {}
    for name in RECORDS:
        path = folder / f"{name}.jsonl"
        rows = []
        for number, line in enumerate(read_text(path).splitlines() if path.is_file() else [], start=1):
            try:
                row = json.loads(line)
            except ValueError:
                row = None
            if not isinstance(row, dict):
                raise InputError("is damaged", file=path, key=f"line {number}", expected="a JSON object a line")
            rows.append(row)
        found[name] = rows
    return found


def _moments(run: Run, track: Track, said: Any) -> list[Moment]:
    """Return moments of a run by a track of it; `said(i)` is the state at a pose of the track, and why."""
    stamps: list[int] = []
    for i, t in enumerate(track.t):
        if not stamps or t - track.t[stamps[-1]] >= PERIOD - 1e-9:
            stamps.append(i)
    moments = []
    for i in stamps:
        before, after = max(i - 1, 0), min(i + 1, len(track.t) - 1)
        duration = max(track.t[after] - track.t[before], 1e-9)
        step = track.poses[after] - track.poses[before]
        turn = float(np.arctan2(np.sin(step[2]), np.cos(step[2])))
        heading = track.poses[i, 2]
        speed = float(step[0] * np.cos(heading) + step[1] * np.sin(heading)) / duration
        state, reason = said(i)
        covariance = np.full((2, 2), np.nan) if track.covariances is None else track.covariances[i, :2, :2]
        moments.append(
            Moment(
                t=float(track.t[i]),
                pose=track.poses[i],
                covariance=covariance,
                speed=speed,
                turn_rate=turn / duration,
                state=state,
                reason=reason,
            )
        )
    return moments


def _share(share: float, words: str) -> str:
    return f"{100.0 * share:.0f} % {words}" if np.isfinite(share) else ""


def _seconds(moments: Sequence[Moment]) -> float:
    return moments[-1].t - moments[0].t if moments else 0.0


def scan_points(play: Play) -> list[FloatArray]:
    """Return some of the points of the scan nearest before each moment, where the poses then place them."""
    scans, lidar = play.run.scans, play.run.robot.scanner
    if scans is None:
        return [np.zeros((0, 2))] * len(play.moments)
    at = np.clip(np.searchsorted(scans.t, play.t + 1e-6) - 1, 0, len(scans.t) - 1)
    used, which = np.unique(at, return_inverse=True)
    chosen = rows_of(scans, used)
    points = [
        transform_points(moved.pose, some_of(deskewed_hits(ranges, lidar, moved.sweep), SCAN_POINTS))
        for moved, ranges in zip(motions(Track(play.t, play.poses), chosen, lidar), chosen.ranges, strict=True)
    ]
    return [points[k] for k in which]
