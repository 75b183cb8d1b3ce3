"""What a navigator saw and weighed while it drove, moment by moment: kept beside a mission's run, to be replayed."""

from __future__ import annotations

import json
from dataclasses import dataclass, field
from pathlib import Path
from typing import Any

import numpy as np
import pyarrow
from numpy.typing import ArrayLike, NDArray

from vinecompass.contact import Walking
from vinecompass.door import checked
from vinecompass.errors import InputError
from vinecompass.navigation import Navigator
from vinecompass.runs.run_files import MOMENTS_FILE
from vinecompass.runs.tables import column, read_table, table_bytes

__all__ = ["Moment", "MomentLog", "moment_of", "read_moments", "some_of"]

FloatArray = NDArray[np.float64]
PERIOD, STANDING_PERIOD = 0.2, 1.0
"""Seconds from one moment to the next: while it moves, and while nothing happens."""
PARTICLES, CANDIDATES, CANDIDATE_POSES, OBSTACLES = 60, 12, 5, 400
"""Most that is kept of each."""
LISTS = {"cloud": 3, "obstacles": 2, "local": 3, "candidates": 2, "people": 5}
"""What is kept as lists of numbers, and how many belong together."""
NUMBERS = ("t", "x", "y", "heading", "xx", "xy", "yy", "speed", "turn_rate", "left")
TEXTS, LINES = ("state", "reason"), ("people_rules", "shut_out")
"""What is kept as a text, and as lines of it."""


@dataclass(frozen=True)
class Moment:
    """What was so at one time, in the site frame.

    Parameters
    ----------
    t : float
        Seconds.
    pose : array, (3,)
        Where the robot believed to be, m and radians.
    speed, turn_rate : float
        Commanded, m/s and rad/s.
    state, reason : str
        Of the navigator; or of localization, where there was none.
    covariance : array, (2, 2)
        Of its position, m2; `nan` where it is not known.
    left : float
        Metres of the plan that were left; `nan` without one.
    cloud : array, (K, 3)
        Some of the particles.
    obstacles : array, (N, 2)
        What was seen and is not in the map, m.
    local : array, (M, 3)
        The local plan.
    candidates : array, (C, P, 2)
        Some of those that the local plan was chosen from.
    people : array, (P, 5)
        x, y, radius, m, and velocity, m/s.
    people_rules : list of str
        What some of them were to the robot, by the rule that applied.
    shut_out : list of str
        Why candidates were not chosen from, and how many.
    """

    t: float
    pose: FloatArray
    speed: float
    turn_rate: float
    state: str
    reason: str = ""
    covariance: FloatArray = field(default_factory=lambda: np.full((2, 2), np.nan))
    left: float = float("nan")
    cloud: FloatArray = field(default_factory=lambda: np.zeros((0, 3)))
    obstacles: FloatArray = field(default_factory=lambda: np.zeros((0, 2)))
    local: FloatArray = field(default_factory=lambda: np.zeros((0, 3)))
    candidates: FloatArray = field(default_factory=lambda: np.zeros((0, 1, 2)))
    people: FloatArray = field(default_factory=lambda: np.zeros((0, 5)))
    people_rules: list[str] = field(default_factory=list)
    shut_out: list[str] = field(default_factory=list)

    @property
    def walks(self) -> FloatArray:
        """Where each person is, and would be a second later: two points ``(2 P, 2)`` for each."""
        places = self.people[:, :2]
        return np.concatenate([places, places + self.people[:, 3:]], axis=1).reshape(-1, 2)


class MomentLog:
    """Keeps what a navigator sees and weighs: called with it after each of its steps, as `rehearse`'s `watch`.

    Examples
    --------
    >>> from vinecompass import demo_file, grid_from_polygons, read_robot, read_site, rehearse_mission
    >>> site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
    >>> room = grid_from_polygons([(32, 17), (41, 17), (41, 26), (32, 26)], [], cell_size=0.05)
    >>> log = MomentLog()
    >>> mission = rehearse_mission(site, robot, room, [36.9, 24.0, -1.57], seed=1, time_limit=1.0, watch=log)
    >>> len(log.moments), log.moments[0].state
    (5, 'driving')
    """

    def __init__(self) -> None:
        self.moments: list[Moment] = []

    def __call__(self, navigator: Navigator) -> None:
        """Keep this moment, if something may have changed since the last one."""
        if self.moments:
            last = self.moments[-1]
            stands = navigator.state == last.state and np.abs(navigator.pose - last.pose).max() < 1e-3
            if navigator.t - last.t < (STANDING_PERIOD if stands else PERIOD) - 1e-9:
                return
        self.moments.append(moment_of(navigator))

    def files(self) -> dict[str, bytes]:
        """Return what is kept as a file of a run folder: a Parquet table, a row a moment."""
        rows = self.moments
        numbers = np.array([_numbers(row) for row in rows]).reshape(-1, len(NUMBERS))
        columns: dict[str, Any] = dict(zip(NUMBERS, numbers.T, strict=True))
        columns |= {"state": [row.state for row in rows], "reason": [row.reason for row in rows]}
        columns |= {name: [json.dumps(getattr(row, name)) for row in rows] for name in LINES}
        shapes = {name: [getattr(row, name) for row in rows] for name in LISTS}
        columns["candidate_poses"] = [each.shape[1] if each.ndim == 3 else 0 for each in shapes["candidates"]]
        for name, values in shapes.items():
            flat = [np.asarray(each, np.float32).ravel() for each in values]
            columns[name] = pyarrow.array(flat, pyarrow.list_(pyarrow.float32()))
        return {MOMENTS_FILE: table_bytes(columns, "parquet")}


def moment_of(navigator: Navigator) -> Moment:
    """Return what a navigator sees and weighs now."""
    estimate, local_plan, command = navigator.estimate, navigator.local_plan, navigator.command
    people = () if local_plan is None else navigator.scene().people
    rules = () if local_plan is None else local_plan.encounters
    return Moment(
        t=navigator.t,
        pose=navigator.pose.copy(),
        covariance=np.full((2, 2), np.nan) if estimate is None else estimate.covariance[:2, :2].copy(),
        speed=command.speed,
        turn_rate=command.turn_rate,
        left=navigator.distance_left,
        state=str(navigator.state),
        reason=navigator.reason,
        cloud=some_of(navigator.particles, PARTICLES),
        obstacles=some_of(navigator.obstacles, OBSTACLES),
        local=np.zeros((0, 3)) if local_plan is None else local_plan.poses,
        candidates=_candidates(navigator),
        people=Walking.rows(people),
        people_rules=[f"{each.state}: {each.relation}" for each in rules if each.state != "none"],
        shut_out=_shut_out(navigator),
    )


@checked
def read_moments(folder: str | Path) -> list[Moment]:
    """Read what a mission kept beside its run; nothing, if it kept no moments.

    Raises
    ------
    InputError
        The file is damaged.
    """
    path = Path(folder) / MOMENTS_FILE
    if not path.is_file():
        return []
    table = read_table(path)
    numbers = np.column_stack([column(table, name, path, finite=False) for name in NUMBERS])
    if not np.all(np.isfinite(numbers[:, :4])) or np.any(np.diff(numbers[:, 0]) < 0.0):
        raise InputError("is damaged", file=path, key="t", expected="times that go up, and poses")
    poses_each = column(table, "candidate_poses", path).astype(int)
    texts = {name: _texts(table, name, path) for name in (*TEXTS, *LINES)}
    lists = {name: _lists(table, name, width, path) for name, width in LISTS.items()}
    moments = []
    for i, (t, x, y, heading, xx, xy, yy, speed, turn_rate, left) in enumerate(numbers.tolist()):
        candidates = lists["candidates"][i]
        if poses_each[i] < 0 or (poses_each[i] > 0 and len(candidates) % poses_each[i]):
            raise InputError("is damaged", file=path, key="candidates", expected="as many poses in each")
        moments.append(
            Moment(
                t=t,
                pose=np.array([x, y, heading]),
                covariance=np.array([[xx, xy], [xy, yy]]),
                speed=speed,
                turn_rate=turn_rate,
                left=left,
                state=texts["state"][i],
                reason=texts["reason"][i],
                cloud=lists["cloud"][i],
                obstacles=lists["obstacles"][i],
                local=lists["local"][i],
                candidates=candidates.reshape(-1, max(poses_each[i], 1), 2),
                people=lists["people"][i],
                **{name: _lines_of(texts[name][i], name, path) for name in LINES},
            )
        )
    return moments


def some_of(rows: ArrayLike, most: int) -> FloatArray:
    """Return rows ``(N, ...)``, or so many of them spread evenly."""
    all_rows = np.asarray(rows, dtype=float)
    return all_rows[:: max(-(-len(all_rows) // most), 1)].copy()


def _candidates(navigator: Navigator) -> FloatArray:
    """Return some of the candidates of the local plan ``(C, P, 2)``, each at a few poses."""
    plan = navigator.local_plan
    if plan is None or plan.considered is None or len(plan.considered.paths) == 0:
        return np.zeros((0, CANDIDATE_POSES, 2))
    paths = some_of(plan.considered.paths, CANDIDATES)
    at = np.linspace(0, paths.shape[1] - 1, CANDIDATE_POSES).round().astype(int)
    return paths[:, at, :2]


def _shut_out(navigator: Navigator) -> list[str]:
    """Return why candidates of the local plan were shut out, and how many of them."""
    plan = navigator.local_plan
    if plan is None or plan.considered is None:
        return []
    tried = len(plan.considered.shut_by)
    return [f"{count} of {tried} motions: {reason}" for reason, count in plan.considered.counts.items()]


def _numbers(moment: Moment) -> list[float]:
    (xx, xy), (_, yy) = moment.covariance
    return [moment.t, *moment.pose, xx, xy, yy, moment.speed, moment.turn_rate, moment.left]


def _texts(table: pyarrow.Table, name: str, path: Path) -> list[str]:
    if name not in table.column_names or not pyarrow.types.is_string(table.schema.field(name).type):
        raise InputError("is damaged", file=path, key=name, expected="a column of texts")
    return [each or "" for each in table.column(name).to_pylist()]


def _lists(table: pyarrow.Table, name: str, width: int, path: Path) -> list[FloatArray]:
    """Return a column of lists as arrays of so many columns."""
    expected = f"lists of numbers, {width} together"
    if name not in table.column_names or not pyarrow.types.is_list(table.schema.field(name).type):
        raise InputError("is damaged", file=path, key=name, expected=expected)
    try:
        return [np.asarray(row, dtype=float).reshape(-1, width) for row in table.column(name).to_pylist()]
    except (TypeError, ValueError):
        raise InputError("is damaged", file=path, key=name, expected=expected) from None


def _lines_of(text: str, name: str, path: Path) -> list[str]:
    try:
        found = json.loads(text)
    except ValueError:
        found = None
    if not isinstance(found, list):
        raise InputError("is damaged", file=path, key=name, expected="a JSON list")
    return [str(each) for each in found]
