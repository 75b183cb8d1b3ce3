"""Whether each setting does anything: ``python -m benchmarks.settings_effects [TABLE]`` moves it from end to end.

For each setting, things are done with its lowest and its highest sensible value until the two differ.
"""

from __future__ import annotations

import sys
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from dataclasses import replace
from functools import cache, partial
from typing import Any

import numpy as np
from numpy.typing import NDArray

from benchmarks.drive_sites import cellar, hall, map_of
from vinecompass import (
    Grid,
    PlanCase,
    Site,
    Track,
    build_map,
    demo_file,
    fuse,
    grid_from_polygons,
    localize,
    plan_path,
    price_floor,
    read_robot,
    read_site,
    record_drive,
)
from vinecompass.contact import Walking
from vinecompass.costs import CostMap
from vinecompass.errors import VineCompassError
from vinecompass.links import LiveFault
from vinecompass.motion import Command
from vinecompass.navigation import Navigator, Round, RoundStop
from vinecompass.odometry import odometry_track
from vinecompass.planning import METHODS, DubinsMotion, ReedsSheppMotion
from vinecompass.rehearsal import rehearse_mission
from vinecompass.robot import Body
from vinecompass.runs import Run, Scans
from vinecompass.settings import Settings, changed_settings, find_setting, tunable_settings

Told = list[NDArray[Any]]
Attempt = Callable[[Settings], Told]
Spoiling = Callable[[Scans], NDArray[np.float32]]


@cache
def drive(route: str) -> Run:
    """Return a recorded drive in the demo's site."""
    site = read_site(demo_file("site.toml"))
    return record_drive(site, read_robot(demo_file("robot.toml")), site.find_route(route).points, seed=2)


def fused(sources: list[str] | None, s: Settings) -> Told:
    run = drive("wet floor")
    with_odometry = replace(run, odometry=odometry_track(run)) if sources else run
    track = fuse(with_odometry, sources=sources, settings=s.fusion).track
    assert track.covariances is not None
    return [track.poses, track.covariances]


def mapped(route: str, s: Settings) -> Told:
    mapping = build_map(drive(route), settings=s.mapping)
    return [mapping.track.poses, mapping.grid.log_odds]


def mapped_by_bad_odometry(s: Settings) -> Told:
    """Every four seconds the odometry jumps by 0.15 m and 6 degrees, less than what is left out as a leap."""
    run = drive("press round")
    assert run.truth is not None
    jumps = np.floor(run.truth.t / 4.0)[:, None] * [0.15, 0.0, np.radians(6.0)]
    mapping = build_map(run, odometry=Track(run.truth.t, run.truth.poses + jumps), settings=s.mapping)
    return [mapping.track.poses, mapping.grid.log_odds]


def mapped_half_blind(s: Settings) -> Told:
    """Halfway no scan shows anything for 12 s, in which the odometry turns by 12 degrees too far."""
    run = drive("grand tour")
    assert run.truth is not None and run.scans is not None
    middle = 0.5 * run.truth.t[-1]
    off = np.radians(12.0) * np.clip((run.truth.t - middle) / 12.0, 0.0, 1.0)
    odometry = Track(run.truth.t, run.truth.poses + off[:, None] * [0.0, 0.0, 1.0])
    shown = run.scans.ranges.copy()
    shown[(run.scans.t > middle) & (run.scans.t < middle + 12.0)] = np.inf
    mapping = build_map(replace(run, scans=replace(run.scans, ranges=shown)), odometry=odometry, settings=s.mapping)
    return [mapping.track.poses, mapping.grid.log_odds]


@cache
def cellar_map() -> Grid:
    """Return the map that the longest drive makes."""
    return build_map(drive("grand tour")).grid


def localized(
    start_off: tuple[float, float, float] | None, route: str, s: Settings, *, spoil: Spoiling | None = None
) -> Told:
    run = drive(route)
    if spoil is not None and run.scans is not None:
        run = replace(run, scans=replace(run.scans, ranges=spoil(run.scans)))
    start = None if start_off is None else run.start + np.asarray(start_off)
    found = localize(cellar_map(), run, start, settings=s.localization)
    warned = [] if found.second_opinion is None else [place.pose for place in found.second_opinion.better]
    return [found.track.poses, found.covariances, (found.states() == "tracking").astype(float), np.array(warned)]


def one_beam_in_fifteen(scans: Scans) -> NDArray[np.float32]:
    """Leave so few beams that a heading is hardly known."""
    thinned = np.full_like(scans.ranges, np.nan)
    thinned[:, ::15] = scans.ranges[:, ::15]
    return thinned


def among_people(scans: Scans) -> NDArray[np.float32]:
    """Let a third of the beams end on something near that the map does not know."""
    ranges, third = scans.ranges.copy(), scans.ranges.shape[1] // 3
    ranges[:, :third] = np.minimum(ranges[:, :third], 1.5)
    return ranges


def covered(scans: Scans) -> NDArray[np.float32]:
    """Let no beam return for three seconds."""
    return np.where(((scans.t > 10.0) & (scans.t < 13.0))[:, None], np.inf, scans.ranges).astype(np.float32)


def priced(s: Settings) -> CostMap:
    site = cellar(3)
    people = [Walking(6.0, 7.0, 0.8, 0.2)]
    return price_floor(map_of(site), read_robot(demo_file("robot.toml")), people=people, settings=s.costs)


def floor(unknown: str, s: Settings) -> Told:
    dear = s.costs.model_copy(update={"unknown": unknown})
    seen = price_floor(cellar_map(), read_robot(demo_file("robot.toml")), settings=dear)
    return [priced(s.model_copy(update={"costs": dear})).prices, seen.prices]


def planned(method: str, s: Settings) -> Told:
    site = cellar(3)
    motion = {"lattice": ReedsSheppMotion(radius=0.5), "roadmap": DubinsMotion(radius=0.4)}.get(method)
    start, goal = site.start_pose, site.stops[0].site_pose
    plan = plan_path(
        priced(s), read_robot(demo_file("robot.toml")), start, goal, method=method, motion=motion, settings=s.planning
    )
    return [plan.poses]


def planned_long(s: Settings) -> Told:
    """A body that reaches far ahead of its axle gets round some corners only by the eighth way that is tried."""
    site, told = cellar(1), read_robot(demo_file("robot.toml"))
    robot = told.model_copy(update={"body": Body(outline=[(-0.2, -0.2), (1.2, -0.2), (1.2, 0.2), (-0.2, 0.2)])})
    case = PlanCase(map_of(site), robot, s)
    start, goal = case.ends(4)
    plan = plan_path(case.costmap, robot, start, goal, method="a-star", settings=s.planning, explain=False)
    return [plan.poses]


def driven(planner: str, number: int, fault: LiveFault | None, s: Settings) -> Told:
    site = cellar(number, people=4)
    chosen = s.model_copy(update={"following": s.following.model_copy(update={"planner": planner})})
    mission = rehearse_mission(
        site,
        read_robot(demo_file("robot.toml")),
        map_of(site),
        site.stops[number].site_pose,
        settings=chosen,
        time_limit=60.0,
        seed=number,
        fault=fault,
    )
    return [mission.velocities, mission.track.poses]


def past_a_crate(s: Settings, *, there_and_back: bool = False, by_hand: bool = False) -> Told:
    """A crate that the map does not know stands a hand's breadth from a wall; a person may push the robot on once."""
    corners = [(0.0, 0.0), (12.0, 0.0), (12.0, 2.4), (0.0, 2.4)]
    crate = [(5.0, 0.15), (5.6, 0.15), (5.6, 0.5), (5.0, 0.5)]
    walls = [{"points": [*corners, corners[0]]}]
    site = Site.model_validate(
        {"name": "hall", "start": (1.5, 1.2, 0.0), "wall": walls, "solid": [{"name": "crate", "polygon": crate}]}
    )
    grid = grid_from_polygons(corners, [], cell_size=0.05)
    stops = [(10.0, 1.2, 0.0), (1.5, 1.2, 180.0)][: 2 if there_and_back else 1]
    mission = rehearse_mission(
        site,
        read_robot(demo_file("robot.toml")),
        grid,
        Round(stops=[RoundStop(name=str(pose), pose=pose) for pose in stops]),
        settings=s,
        time_limit=60.0,
        seed=1,
        watch=push_once if by_hand else None,
    )
    return [mission.velocities, mission.track.poses]


def met(y: float, s: Settings) -> Told:
    """A person comes towards the robot, a little to one side of its way: the band passes on the other, or does not."""
    walk = {"name": "worker", "speed": 0.6, "route": [(13.0, y), (1.0, y)]}
    site = hall(14.0, 5.0, people=[walk], start=(1.5, 2.5, 0.0))
    chosen = s.model_copy(update={"following": s.following.model_copy(update={"planner": "band"})})
    robot = read_robot(demo_file("robot.toml"))
    mission = rehearse_mission(site, robot, map_of(site), [12.0, 2.5, 0.0], settings=chosen, time_limit=60.0, seed=1)
    return [mission.velocities, mission.track.poses]


def push_once(navigator: Navigator) -> None:
    """Drive it by hand for a moment after 3 s, and let it go on after 6."""
    if 3.0 <= navigator.t < 3.1:
        navigator.manual(Command(0.3))
    elif navigator.t >= 6.0:
        navigator.resume()


def held_up(wide: float, s: Settings) -> Told:
    """A wall that the map does not know closes an aisle that it has driven into: it tries all recoveries in turn."""
    deep = 0.5 * (3.0 - wide)
    corners = [(0.0, 0.0), (16.0, 0.0), (16.0, 3.0), (0.0, 3.0)]
    racks = [[(x, y), (x + 5.0, y), (x + 5.0, y + deep), (x, y + deep)] for x in (3.0, 9.5) for y in (0.0, 3.0 - deep)]
    walls = [*([*each, each[0]] for each in (corners, *racks)), [(12.0, 0.0), (12.0, 3.0)]]
    site = Site(name="hall", start=(1.5, 1.5, 0.0), wall=[{"points": points} for points in walls])
    grid = grid_from_polygons(corners, racks, cell_size=0.05)
    robot = read_robot(demo_file("robot.toml"))
    mission = rehearse_mission(site, robot, grid, [15.0, 1.5, 0.0], settings=s, time_limit=60.0, seed=1)
    return [mission.velocities, mission.track.poses]


DRIVES: list[Attempt] = [
    *[partial(driven, planner, 1, None) for planner in ("window", "path", "band")],
    partial(driven, "window", 1, LiveFault("covered", 4.0, 6.0)),
    partial(driven, "window", 1, LiveFault("scanner dead", 4.0, 2.5)),
    partial(driven, "window", 1, LiveFault("half blind", 4.0)),
    partial(driven, "window", 1, LiveFault("wheels slip", 4.0, 15.0)),
    partial(driven, "window", 1, LiveFault("scanner dead", 4.0)),
    *[partial(driven, "band", number, None) for number in (2, 3)],
]
SPOILED: list[Spoiling] = [one_beam_in_fifteen, among_people, covered]
TRIES: dict[str, list[Attempt]] = {
    "band": [partial(driven, "band", 1, None), *[partial(met, y) for y in (2.2, 2.8)], *DRIVES],
    "fusion": [partial(fused, sources) for sources in (None, ["odometry", "imu"], ["odometry"], ["scans"])],
    "mapping": [
        *[partial(mapped, route) for route in ("press round", "grand tour")],
        mapped_by_bad_odometry,
        mapped_half_blind,
    ],
    "localization": [
        *[partial(localized, off, route) for off in ((0.5, 0.3, 0.3), None) for route in ("press round", "wet floor")],
        *[partial(localized, (0.5, 0.3, 0.3), "press round", spoil=spoil) for spoil in SPOILED],
        *[partial(localized, off, "press round") for off in ((0.0, 0.0, np.pi), (2.0, 0.0, 0.0), (0.0, 2.0, 0.5))],
    ],
    "costs": [
        partial(floor, "closed"),
        partial(floor, "dear"),
        past_a_crate,
        partial(past_a_crate, there_and_back=True),
        *DRIVES,
    ],
    "planning": [*[partial(planned, method) for method in METHODS], planned_long],
    "navigation": [*DRIVES, partial(past_a_crate, by_hand=True)],
    # Where there is no room to turn, and where there is.
    "recovery": [partial(held_up, wide) for wide in (1.2, 2.4)],
}


def effect(key: str) -> tuple[str, int | None, int]:
    """Return after how many tries the two ends of a setting differed; None if they never did."""
    setting, tries = find_setting(key), TRIES.get(key.split(".")[0], DRIVES)
    ends = [round(value) if setting.whole else value for value in (setting.span.low, setting.span.high)]
    for number, attempt in enumerate(tries, 1):
        told = []
        for value in ends:
            try:
                told.append([np.asarray(part) for part in attempt(changed_settings(Settings(), {key: value}))])
            except VineCompassError as error:
                told.append([np.array(str(error))])
        low, high = told
        if len(low) != len(high) or any(not _alike(a, b) for a, b in zip(low, high, strict=True)):
            return key, number, len(tries)
    return key, None, len(tries)


def _alike(first: NDArray[Any], second: NDArray[Any]) -> bool:
    """Tell whether two arrays hold the same; what is not known twice is the same."""
    return np.array_equal(first, second, equal_nan=first.dtype.kind == second.dtype.kind == "f")


def main() -> None:
    wanted = sys.argv[1:]
    keys = [one.key for one in tunable_settings() if not wanted or one.key.split(".")[0] in wanted]
    without = 0
    with ProcessPoolExecutor(2) as pool:
        for key, number, tries in pool.map(effect, keys):
            without += number is None
            print(f"{key}: {f'told by try {number} of {tries}' if number else 'NO EFFECT SEEN'}", flush=True)
    print(f"{len(keys) - without} of {len(keys)} settings have an effect")


if __name__ == "__main__":
    main()
