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

from benchmarks.drive_sites import cellar, map_of
from vinecompass import (
    Site,
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
from vinecompass.odometry import odometry_track
from vinecompass.planning import METHODS, DubinsMotion, ReedsSheppMotion
from vinecompass.rehearsal import rehearse_mission
from vinecompass.runs import Run
from vinecompass.settings import Settings, changed_settings, find_setting, tunable_settings

Told = list[NDArray[Any]]
Attempt = Callable[[Settings], Told]


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


def localized(start_off: tuple[float, float, float] | None, route: str, s: Settings) -> Told:
    run = drive(route)
    start = None if start_off is None else run.start + np.asarray(start_off)
    found = localize(build_map(drive("grand tour")).grid, run, start, settings=s.localization)
    return [found.track.poses, found.covariances, (found.states() == "tracking").astype(float)]


def priced(s: Settings) -> CostMap:
    site = cellar(3)
    people = [Walking(6.0, 7.0, 0.8, 0.2)]
    return price_floor(map_of(site), read_robot(demo_file("robot.toml")), people=people, settings=s.costs)


def floor(unknown: str, s: Settings) -> Told:
    dear = s.model_copy(update={"costs": s.costs.model_copy(update={"unknown": unknown})})
    return [priced(dear).prices]


def planned(method: str, s: Settings) -> Told:
    site = cellar(3)
    motion = {"lattice": ReedsSheppMotion(radius=0.5), "roadmap": DubinsMotion(radius=0.4)}.get(method)
    start, goal = site.start_pose, site.stops[0].site_pose
    plan = plan_path(
        priced(s), read_robot(demo_file("robot.toml")), start, goal, method=method, motion=motion, settings=s.planning
    )
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
TRIES: dict[str, list[Attempt]] = {
    "fusion": [partial(fused, sources) for sources in (None, ["odometry", "imu"], ["odometry"], ["scans"])],
    "mapping": [partial(mapped, route) for route in ("press round", "grand tour")],
    "localization": [
        partial(localized, off, route) for off in ((0.5, 0.3, 0.3), None) for route in ("press round", "wet floor")
    ],
    "costs": [partial(floor, "closed"), partial(floor, "dear"), *DRIVES],
    "planning": [partial(planned, method) for method in METHODS],
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
        if len(low) != len(high) or any(not np.array_equal(a, b) for a, b in zip(low, high, strict=True)):
            return key, number, len(tries)
    return key, None, len(tries)


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
