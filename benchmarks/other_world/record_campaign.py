"""What fusion, mapping and localization make of runs that were recorded in the second world, judged by what is so."""

from __future__ import annotations

from collections.abc import Callable, Sequence
from concurrent.futures import ProcessPoolExecutor
from dataclasses import astuple, dataclass, replace
from functools import partial

import numpy as np
import shapely
from numpy.typing import NDArray
from scipy.spatial import cKDTree

from benchmarks.other_world.places import PLACES, Place
from benchmarks.other_world.recorder import RECORDERS, Sensors, cast, draw_sensors, record
from vinecompass import (
    Localization,
    Mapping,
    Run,
    Track,
    build_map,
    compare_relations,
    compare_tracks,
    fuse,
    localize,
)
from vinecompass.geometry import compose, relative, transform_points
from vinecompass.runs.comparison import best_shift

__all__ = [
    "MIXES",
    "PARTS",
    "campaign",
    "fusion_row",
    "localization_row",
    "mapping_row",
    "place_and_run",
    "place_and_sensors",
    "rooms_and_run",
    "wrongly_tracked",
]

FloatArray = NDArray[np.float64]
MIXES = (
    ("wheels",),
    ("scans",),
    ("imu", "wheels"),
    ("imu", "scans"),
    ("wheels", "scans"),
    ("imu", "wheels", "scans"),
)
"""Sources that are fused with each other."""
NEAR, TWICE, BEHIND = 0.10, 0.06, 0.5
"""Metres within which a cell is on a wall, within which one is drawn where it should be, and up to which a second one
beside it is the same wall drawn twice."""
ROW = 4
"""Cells off the wall within 0.3 m of a point of it that make a second row there."""
SPOILT = 1.1
"""Times as far off as the best of its sources alone from which a mix is worse."""
FIVE = ("ring", "corridor", "hall", "clinic", "warehouse")
"""The places that most campaigns go round."""
SCATTER = 0.006
"""Seconds within which stamps of the runs through rooms are late: they are taken as messages come in."""
LOOKED_AT = 20
"""Of so many scans one is looked at to know which walls were seen."""


def place_and_sensors(number: int, places: Sequence[str] = FIVE) -> tuple[Place, Sensors]:
    """Return the place and the robot of a number: both go round, and all is drawn anew each time."""
    rng = np.random.default_rng(number)
    place = PLACES[places[number % len(places)]](rng)
    return place, draw_sensors(RECORDERS[(number // len(places)) % len(RECORDERS)], rng)


def place_and_run(number: int, drive: int = 0) -> tuple[Place, Run]:
    """Return the place of a number, and a run there; another `drive` is of the same place and robot."""
    place, sensors = place_and_sensors(number)
    return place, record(place, sensors, np.random.default_rng([number, drive]))


def rooms_and_run(number: int) -> tuple[Place, Run]:
    """Return rooms with thin walls between them, and a run there with stamps that scatter."""
    place, sensors = place_and_sensors(number, ["offices"])
    return place, record(place, sensors, np.random.default_rng([number, 0]), stamped_late=SCATTER)


@dataclass(frozen=True)
class FusionRow:
    """How far one mix of sources is off.

    Parameters
    ----------
    share : float
        At the end, of the way.
    over_1, over_10 : float
        The root mean square of what is gone over a metre and over ten beside the truth, m.
    inside : float
        Share of the time for which the truth is within the 95 % ellipse that the track states.
    """

    share: float
    over_1: float
    over_10: float
    inside: float


def fusion_row(run: Run, mix: tuple[str, ...]) -> FusionRow:
    """Fuse a mix of a run's sources."""
    assert run.truth is not None
    track = fuse(run, sources=mix).track
    error = compare_tracks(track, run.truth)
    return FusionRow(
        float(error.position[-1] / run.truth.length),
        _over(track, run.truth, 1.0),
        _over(track, run.truth, 10.0),
        _inside(track, run.truth),
    )


def _over(track: Track, truth: Track, way: float) -> float:
    """Return by how much what a track goes over a way differs from the truth, m: the root mean square."""
    along = np.concatenate([[0.0], np.cumsum(np.hypot(*np.diff(truth.poses[:, :2], axis=0).T))])
    begins = np.arange(0.0, along[-1] - way, 0.25)
    first, last = np.interp(begins, along, truth.t), np.interp(begins + way, along, truth.t)
    off = relative(track.at(last), track.at(first)) - relative(truth.at(last), truth.at(first))
    return float(np.sqrt(np.mean(off[:, 0] ** 2 + off[:, 1] ** 2)))


def _inside(track: Track, truth: Track) -> float:
    """Return for which share of the time the true position lies in the 95 % ellipse of a track."""
    assert track.covariances is not None
    off = track.poses[:, :2] - truth.at(track.t)[:, :2]
    squared = np.einsum("ni,nij,nj->n", off, np.linalg.inv(track.covariances[:, :2, :2]), off)
    return float(np.mean(squared <= 5.991))


@dataclass(frozen=True)
class MappingRow:
    """How true a map is.

    Parameters
    ----------
    aligned, relation : float
        RMSE of the track laid over the truth, and of its relations over about a metre, m.
    precision, recall, doubled : float
        Shares: of occupied cells within 0.10 m of a wall; of walls seen that have such a cell; and of walls that have
        one more up to 0.5 m away. The map is laid over the truth as the track is.
    outside : float
        Square metres of floor called free that lie beyond the walls.
    """

    aligned: float
    relation: float
    precision: float
    recall: float
    doubled: float
    outside: float


def mapping_row(place: Place, run: Run) -> MappingRow:
    """Map a run and judge the map."""
    assert run.truth is not None
    mapping = build_map(run)
    grid, track = mapping.grid, mapping.track
    error = compare_relations(track, run.truth)
    shift = _over_the_building(mapping, run)
    occupied = transform_points(shift, grid.occupied_points())
    boundary = place.floor.boundary
    shapely.prepare(boundary)
    off = shapely.distance(shapely.points(occupied), boundary)
    walls = _walls_seen(place, run)
    found, _ = cKDTree(occupied).query(walls)
    # A cell off the wall counts as a second one where the wall itself is drawn as well.
    astray = occupied[(off > NEAR) & (off < BEHIND)]
    right = walls[found < TWICE]
    beside = cKDTree(astray).query_ball_point(right, 0.3, return_length=True) if len(astray) else np.zeros(len(right))
    free = transform_points(shift, grid.points_of(np.argwhere(grid.free)))
    away = ~shapely.contains_xy(place.floor.buffer(NEAR), *free.T)
    return MappingRow(
        aligned=error.aligned_rmse,
        relation=error.position,
        precision=float(np.mean(off <= NEAR)),
        recall=float(np.mean(found <= NEAR)),
        doubled=float(np.mean(beside >= ROW)),
        outside=float(away.sum() * grid.cell_size**2),
    )


def _over_the_building(mapping: Mapping, run: Run) -> FloatArray:
    """Return the pose ``(3,)`` of a map's frame at which the drive that made it lies nearest to the truth."""
    assert run.truth is not None
    return best_shift(mapping.track.poses, run.truth.at(mapping.track.t))


def _walls_seen(place: Place, run: Run) -> FloatArray:
    """Return the points of walls ``(N, 2)`` that beams ended on, thinned to one in a cell."""
    assert run.truth is not None
    lidar, scans, ends = run.robot.scanner, run.need_scans(), []
    for t in scans.t[::LOOKED_AT]:
        eye = compose(run.truth.at([t])[0], lidar.mount_pose)
        angles = eye[2] + lidar.beam_angles
        ranges = cast(place.segments, np.tile(eye[:2], (lidar.beams, 1)), angles, lidar.farthest)
        hit = ranges < 0.8 * lidar.farthest
        ends.append(eye[:2] + ranges[hit, None] * np.column_stack([np.cos(angles[hit]), np.sin(angles[hit])]))
    points = np.vstack(ends)
    _, first = np.unique(np.floor(points / 0.05), axis=0, return_index=True)
    return np.asarray(points[first])


@dataclass(frozen=True)
class LocalizationRow:
    """How well a second drive is localized on the map that the first one made.

    Parameters
    ----------
    rmse, laid : float
        Of the position, m: as told, and once the map is laid over the building as its own drive is over the truth.
    inside : float
        Share of the time for which the truth lies in the 95 % ellipse.
    tracking : float
        Share of the time for which it says that it tracks.
    wrong : float
        Seconds of that in which it is more than 0.3 m and three of its own sigmas off.
    """

    rmse: float
    laid: float
    inside: float
    tracking: float
    wrong: float


def localization_row(mapping: Mapping, mapped: Run, run: Run, start: FloatArray | None) -> LocalizationRow:
    """Localize a run on the map made of another, from a start or from anywhere."""
    assert run.truth is not None
    found = localize(mapping.grid, run, start, seed=0)
    error = compare_tracks(found.track, run.truth)
    poses = compose(_over_the_building(mapping, mapped), found.track.poses)
    laid = compare_tracks(replace(found.track, poses=poses), run.truth)
    tracks = found.states() == "tracking"
    period = float(np.median(np.diff(found.track.t)))
    after = tracks if np.any(tracks) else np.ones(len(tracks), bool)
    return LocalizationRow(
        rmse=error.where(after).position_rmse,
        laid=laid.where(after).position_rmse,
        inside=float(np.mean(found.inside_ellipse(run.truth)[after])),
        tracking=float(np.mean(tracks)),
        wrong=float(np.sum(wrongly_tracked(found, error.position)) * period),
    )


def wrongly_tracked(found: Localization, off: FloatArray) -> NDArray[np.bool_]:
    """Return where it says that it tracks, and is more than 0.3 m and three of its own sigmas off ``(N,)``, m."""
    assert found.track.covariances is not None
    sigma = np.sqrt(np.linalg.eigvalsh(found.track.covariances[:, :2, :2])[:, 1])
    return np.asarray((found.states() == "tracking") & (off > 0.3) & (off > 3.0 * sigma))


Row = FusionRow | MappingRow | LocalizationRow


def _fused(number: int) -> dict[str, Row]:
    _, run = place_and_run(number)
    return {" ".join(mix): fusion_row(run, mix) for mix in MIXES}


def _mapped(number: int) -> dict[str, Row]:
    return {"": mapping_row(*place_and_run(number))}


def _rooms_mapped(number: int) -> dict[str, Row]:
    return {"": mapping_row(*rooms_and_run(number))}


def _localized(number: int) -> dict[str, Row]:
    _, first = place_and_run(number)
    _, second = place_and_run(number, drive=1)
    mapping = build_map(first)
    starts = {"told the start": second.start, "from anywhere": None}
    return {name: localization_row(mapping, first, second, start) for name, start in starts.items()}


PARTS: dict[str, Callable[[int], dict[str, Row]]] = {
    "fusion": _fused,
    "mapping": _mapped,
    "rooms": _rooms_mapped,
    "localization": _localized,
}
"""What is made of a recorded run, by its number, and how it is called."""


def _named(part: str, number: int) -> tuple[str, dict[str, Row]]:
    places = ("offices",) if part == "rooms" else FIVE
    robot = RECORDERS[(number // len(places)) % len(RECORDERS)]
    return f"{number:3d} {places[number % len(places)]:<10} {robot:<10}", PARTS[part](number)


def campaign(part: str, count: int, jobs: int | None) -> None:
    """Judge so many runs, and print a line for each and the median and the worst of all."""
    everything: dict[str, list[tuple[float, ...]]] = {}
    with ProcessPoolExecutor(jobs) as pool:
        for name, rows in pool.map(partial(_named, part), range(count)):
            for what, row in rows.items():
                everything.setdefault(what, []).append(astuple(row))
                print(name, what, _line(row, astuple(row)), flush=True)
    if part == "fusion":
        _say_what_sources_spoil(everything)
    for what, values in everything.items():
        for word, each in (("median", np.median), ("least", np.min), ("most", np.max)):
            print(f"{word:<7}", what, _line(row, tuple(each(values, axis=0))))


def _say_what_sources_spoil(everything: dict[str, list[tuple[float, ...]]]) -> None:
    """Print in how many runs a mix is worse by more than a tenth than the best that it holds: a source did harm."""
    for mix in MIXES:
        within = [each for each in MIXES if set(each) < set(mix)]
        if not within:
            continue
        best = np.min([everything[" ".join(each)] for each in within], axis=0)
        worse = np.array(everything[" ".join(mix)]) / best
        names = list(FusionRow.__dataclass_fields__)[:3]
        said = [
            f"{name} {int(np.sum(times > SPOILT))} of {len(times)} (up to {times.max():.2f} times)"
            for name, times in zip(names, worse.T, strict=False)
        ]
        print("worse than the best source:", " ".join(mix), ", ".join(said))


def _line(row: Row, values: tuple[float, ...]) -> str:
    return "  ".join(f"{key} {value:.4f}" for key, value in zip(vars(row), values, strict=True))
