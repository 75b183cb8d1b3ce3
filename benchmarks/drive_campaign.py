"""Run with ``python -m benchmarks.drive_campaign PART [JOBS]``: missions in the simulator, judged by the truth.

Parts: window, band or path (missions with that local planner), tug or forklift (missions of those), faults, people,
crowds, aisles, times. Each prints what came of it, and every mission that did not end well.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable
from concurrent.futures import ProcessPoolExecutor
from itertools import pairwise
from typing import Any

import numpy as np
from shapely import LineString

from benchmarks.drive_people import crowd_case, people_case, settings_for
from benchmarks.drive_sites import cellar, map_of
from vinecompass import Round, Site, demo_file, price_floor, read_robot, rehearse_mission
from vinecompass.geometry import distance_along, relative, wrap_heading
from vinecompass.links import LIVE_FAULTS, LiveFault
from vinecompass.navigation import LoopPlanner, RoundStop
from vinecompass.rehearsal import Rehearsal
from vinecompass.robot import Drive

SITES, SEEDS = 10, 5
ARRIVED_WITHIN, TURNED_WITHIN = 0.05, 2.0
"""Metres and degrees by the truth."""


def ramped(way: float, top: float, faster: float, slower: float) -> float:
    """Return the least time for a way from standstill to standstill, s."""
    ramps = 0.5 * top**2 * (1.0 / faster + 1.0 / slower)
    if way > ramps:
        return (way - ramps) / top + top / faster + top / slower
    return float(np.sqrt(2.0 * way * (1.0 / faster + 1.0 / slower)))


def best_time(site: Site, stop: str) -> float:
    """Return the least time for the plan to a stop at the drive's own limits, s.

    Full speed and acceleration all along each leg, whatever stands beside, and turns on the spot at full rate between
    them: no robot that slows down in tight places and curves can be as quick.
    """
    robot = read_robot(demo_file("robot.toml"))
    floor, goal = price_floor(map_of(site), robot), site.find_stop(stop).site_pose
    plan = LoopPlanner(margin=0.04).plan(floor, robot, site.start_pose, goal, explain=False)
    if not plan.found:
        return float("nan")
    drive, poses, seconds = robot.drive, plan.poses, 0.0
    ahead = relative(poses[1:], poses[:-1])
    # A path of lines leaves the turns at its ends to the robot: there the steps show the way, not the headings.
    travelling = np.arctan2(*np.diff(poses[:, :2], axis=0).T[::-1])
    kinds = np.where(np.hypot(*ahead[:, :2].T) < 1e-6, 0, np.where(np.cos(travelling - poses[1:, 2]) < 0.0, -1, 1))
    kinds[-1] = kinds[-2] if kinds[-1] else 0
    facing = np.where(kinds < 0, travelling + np.pi, travelling)
    heading, first = float(poses[0, 2]), 0
    for last in [*(np.flatnonzero(np.diff(kinds)) + 1).tolist(), len(kinds)]:
        kind = kinds[first]
        if kind:
            turn = abs(wrap_heading(float(facing[first]) - heading))
            way = float(np.hypot(*ahead[first:last, :2].T).sum())
            top = drive.top_speed if kind > 0 else drive.reverse_speed
            seconds += ramped(way, top, drive.acceleration, drive.braking)
            heading = float(facing[last - 1])
        else:
            turn = abs(wrap_heading(float(poses[last, 2]) - heading))
            heading = float(poses[last, 2])
        seconds += turning_time(turn, drive)
        first = last
    return seconds + turning_time(abs(wrap_heading(float(poses[-1, 2]) - heading)), drive)


def turning_time(turn: float, drive: Drive) -> float:
    """Return the least time for a turn on the spot, s; none for one that a curve may save."""
    return ramped(turn, drive.top_turn_rate, drive.turn_acceleration, drive.turn_acceleration) if turn > 0.2 else 0.0


def turns_about(mission: Rehearsal) -> int:
    """Return how often the direction of turning changes in the last metre before each stop, at most."""
    commands, truth, worst = mission.run.commands, mission.run.truth, 0
    assert commands is not None and truth is not None
    way = distance_along(truth.at(commands.t))
    for stop in mission.log.stops:
        arrived = float(np.interp(stop.t, commands.t, way))
        turns = commands.turn_rate[(commands.t <= stop.t) & (way > arrived - 1.0)]
        worst = max(worst, int(np.count_nonzero(np.diff(np.sign(turns[np.abs(turns) > 0.03])))))
    return worst


def told(mission: Rehearsal, seconds: float) -> dict[str, Any]:
    """Return what a mission came to."""
    reached = [each for each in mission.arrivals if each.reached]
    return {
        "arrived": mission.arrived,
        "reason": mission.reason,
        "contacts": mission.contacts,
        "limits": mission.limits_kept(),
        "position": mission.position_error,
        "turns": turns_about(mission),
        "heading": float(np.degrees(mission.heading_error)),
        "time": float(mission.track.t[-1]),
        "speedup": float(mission.track.t[-1]) / seconds,
        "reached": len(reached),
        "within": bool(reached)
        and mission.position_error < ARRIVED_WITHIN
        and np.degrees(mission.heading_error) < TURNED_WITHIN,
        "recoveries": sum(entry.state == "recovering" for entry in mission.log.states),
    }


def mission_case(job: tuple[str, int, int, int]) -> dict[str, Any]:
    """Drive one mission to two stops of one site; or, each tenth, to one that is walled in."""
    planner, number, seed, which = job
    site = cellar(number)
    names = [stop.name for stop in site.stops]
    rng = np.random.default_rng(1000 * number + 10 * seed + which)
    first, second = rng.choice(len(names), 2, replace=False)
    stops = [RoundStop(name=names[first]), RoundStop(name=names[second])]
    impossible = which == 9
    if impossible:
        # Not the one that it stands at: it would be walled in with it.
        x, y = site.start[:2]
        if np.hypot(*(np.array(site.find_stop(names[first]).pose[:2]) - (x, y))) < 2.0:
            stops = stops[::-1]
        x, y, _ = site.find_stop(stops[0].name or "").pose
        document = site.model_dump()
        corners = [(x - 0.9, y - 0.9), (x + 0.9, y - 0.9), (x + 0.9, y + 0.9), (x - 0.9, y + 0.9), (x - 0.9, y - 0.9)]
        document["zones"] = [
            {
                "name": "fence",
                "kind": "closed",
                "polygon": list(LineString(side).buffer(0.1, cap_style="square").exterior.coords)[:-1],
            }
            for side in pairwise(corners)
        ]
        site, stops = Site.model_validate(document), stops[:1]
    begun = time.perf_counter()
    mission = rehearse_mission(
        site,
        read_robot(demo_file("robot.toml")),
        map_of(site),
        Round(stops=stops),
        zones=site.zones,
        settings=settings_for(planner),
        seed=seed,
        time_limit=240.0,
    )
    bound = best_time(site, names[first]) if not impossible else float("nan")
    first_t = mission.arrivals[0].t if mission.arrivals and mission.arrivals[0].reached else float("nan")
    return told(mission, time.perf_counter() - begun) | {
        "job": job,
        "impossible": impossible,
        "over_bound": first_t / bound - 1.0,
    }


def fault_case(job: tuple[str, int, int]) -> dict[str, Any]:
    """Drive one mission on which one thing goes wrong."""
    kind, number, seed = job
    site = cellar(number % SITES, people=1)
    rng = np.random.default_rng(77 * number + seed)
    names = [stop.name for stop in site.stops]
    goal = names[int(rng.integers(len(names)))]
    begin = float(rng.uniform(3.0, 8.0))
    place, duration, name = None, float("inf"), kind
    if kind == "scanner dead for a while":
        name, duration = "scanner dead", 1.0
    elif kind in ("odometry frozen", "half blind", "late data", "wheels slip"):
        duration = float(rng.choice([3.0, np.inf]))
    elif kind == "carried away":
        other = site.find_stop(names[int(rng.integers(len(names)))]).site_pose
        place = (float(other[0]), float(other[1]), float(other[2]))
    fault = LiveFault(name, begin, duration, place) if kind != "aisle blocked" else None
    grid = map_of(site)
    if kind == "aisle blocked":
        x, y, _ = site.find_stop(goal).pose
        document = site.model_dump()
        crate = [(x - 0.3, y - 1.6), (x + 0.3, y - 1.6), (x + 0.3, y - 1.3), (x - 0.3, y - 1.3)]
        document["solids"].append({"name": "crate", "polygon": crate})
        site = Site.model_validate(document)
    begun = time.perf_counter()
    mission = rehearse_mission(
        site,
        read_robot(demo_file("robot.toml")),
        grid,
        Round(stops=[RoundStop(name=goal)]),
        seed=seed,
        fault=fault,
        time_limit=150.0,
    )
    return told(mission, time.perf_counter() - begun) | {
        "job": job,
        "states": [(round(e.t, 1), e.state, e.reason[:60]) for e in mission.log.states if e.state != "driving"],
    }


def aisle_case(job: tuple[str, int]) -> dict[str, Any]:
    """Drive through an aisle 16 cm wider than the body, six metres long."""
    planner, seed = job
    robot = read_robot(demo_file("robot.toml"))
    half, shift = 0.5 * (float(np.ptp(robot.body.polygon[:, 1])) + 0.16), 0.013 * seed
    middle = 3.0 + shift
    site = Site.model_validate(
        {
            "name": "aisle",
            "start": (2.0, 2.5, 0.0),
            "wall": [{"points": [(0, 0), (14, 0), (14, 6), (0, 6), (0, 0)]}],
            "solid": [
                {"name": "left rack", "polygon": [(4, middle + half), (10, middle + half), (10, 5.9), (4, 5.9)]},
                {"name": "right rack", "polygon": [(4, 0.1), (10, 0.1), (10, middle - half), (4, middle - half)]},
            ],
        }
    )
    begun = time.perf_counter()
    mission = rehearse_mission(
        site, robot, map_of(site), [12.0, 3.5, 0.0], settings=settings_for(planner), seed=seed, time_limit=90.0
    )
    truth = mission.run.truth
    assert truth is not None
    inside = (truth.poses[1:, 0] > 4.5) & (truth.poses[1:, 0] < 9.5)
    speeds = mission.velocities[inside, 0]
    fastest = float(speeds.max()) if len(speeds) else float("nan")
    return told(mission, time.perf_counter() - begun) | {"job": job, "fastest": fastest}


def time_case(job: tuple[str, int, int]) -> dict[str, Any]:
    """Drive to one stop with nobody about, and compare with the least time for the plan."""
    planner, number, which = job
    site = cellar(number, people=0)
    stop = site.stops[which % len(site.stops)].name
    begun = time.perf_counter()
    mission = rehearse_mission(
        site,
        read_robot(demo_file("robot.toml")),
        map_of(site),
        Round(stops=[RoundStop(name=stop)]),
        settings=settings_for(planner),
        seed=which,
        time_limit=120.0,
    )
    t = mission.arrivals[0].t if mission.arrived else float("nan")
    return told(mission, time.perf_counter() - begun) | {"job": job, "over_bound": t / best_time(site, stop) - 1.0}


def vehicle_case(job: tuple[str, str, int]) -> dict[str, Any]:
    """Drive one of the other vehicles to a stop that it can be planned to, past a person."""
    vehicle, planner, number = job
    robot = read_robot(demo_file(f"{vehicle}.toml"))
    car = vehicle == "forklift"
    site = cellar(number % 20, people=1, aisles=(1.9, 2.6) if car else (1.2, 1.8), along=car)
    floor = price_floor(map_of(site), robot)
    rng = np.random.default_rng(number)
    planned = LoopPlanner(margin=0.04)
    goal = next(
        stop.name
        for stop in rng.permutation(np.array(site.stops, dtype=object))
        if planned.plan(floor, robot, site.start_pose, stop.site_pose, explain=False).found
    )
    begun = time.perf_counter()
    mission = rehearse_mission(
        site,
        robot,
        map_of(site),
        Round(stops=[RoundStop(name=goal)]),
        settings=settings_for(planner),
        seed=number,
        time_limit=240.0,
    )
    return told(mission, time.perf_counter() - begun) | {"job": (*job, goal)}


FAULT_KINDS = ["scanner dead for a while", "aisle blocked", *LIVE_FAULTS]


def run_all(case: Callable[[Any], dict[str, Any]], jobs: list[Any]) -> list[dict[str, Any]]:
    """Run cases on two processes, in their order."""
    with ProcessPoolExecutor(2) as pool:
        return list(pool.map(case, jobs))


def share(rows: list[dict[str, Any]], key: str) -> str:
    """Return how many of the rows have something, in words."""
    return f"{sum(bool(row[key]) for row in rows)} of {len(rows)}"


def missions(planner: str, count: int) -> None:
    """Print what came of missions over all sites and seeds with people."""
    jobs = [(planner, n % SITES, n // SITES % SEEDS, n // (SITES * SEEDS) % 10) for n in range(count)]
    rows = run_all(mission_case, jobs)
    possible, impossible = ([row for row in rows if row["impossible"] == flag] for flag in (False, True))
    for row in possible:
        if not row["arrived"] or not row["within"] or row["contacts"] or not row["limits"] or row["turns"] > 2:
            keys = ("job", "arrived", "reason", "contacts", "limits", "position", "heading", "turns")
            print("  ", *(f"{key}={row[key]}" for key in keys))
    for row in impossible:
        print("   impossible:", row["job"], row["arrived"], row["reason"][:160])
    over = np.array([row["over_bound"] for row in possible])
    print(f"{planner}: arrived {share(possible, 'arrived')}, within 0.05 m and 2 degrees {share(possible, 'within')}")
    print(f"  contacts {sum(row['contacts'] for row in rows)}, limits kept {share(rows, 'limits')}")
    print(f"  turned about more than twice {sum(row['turns'] > 2 for row in possible)}")
    middle, most = 100 * np.nanmedian(over), 100 * np.nanquantile(over, 0.9)
    print(f"  time over the bound: median {middle:.0f} %, 9 of 10 under {most:.0f} %")
    print(f"  times real time: median {np.median([row['speedup'] for row in rows]):.1f}")


def faults(count: int) -> None:
    """Print what came of missions with one fault each."""
    jobs = [(FAULT_KINDS[n % len(FAULT_KINDS)], n // len(FAULT_KINDS), n) for n in range(count)]
    rows = run_all(fault_case, jobs)
    for kind in FAULT_KINDS:
        some = [row for row in rows if row["job"][0] == kind]
        ended = sum(row["arrived"] or not row["reason"].startswith("still") for row in some)
        print(
            f"{kind}: contacts {sum(row['contacts'] for row in some)}, arrived {share(some, 'arrived')}, ended {ended}"
        )
        for row in some:
            if not row["arrived"] or row["contacts"]:
                print("   ", row["job"], row["contacts"], row["reason"][:140])


def aisles(count: int) -> None:
    """Print what came of narrow aisles, for each local planner."""
    for planner in ("window", "band", "path"):
        rows = run_all(aisle_case, [(planner, seed) for seed in range(count)])
        fastest = [row["fastest"] for row in rows if row["arrived"]]
        contacts = sum(row["contacts"] for row in rows)
        print(
            f"{planner}: passed {share(rows, 'arrived')}, contacts {contacts}, at most "
            f"{max(fastest, default=0.0):.2f} m/s in the aisle, {np.median([row['time'] for row in rows]):.0f} s in all"
        )
        for row in rows:
            if not row["arrived"]:
                print("   ", row["job"], row["reason"][:140])


def vehicles(vehicle: str, count: int) -> None:
    """Print what came of missions of the tug or the forklift, with each local planner in turn."""
    planners = ("window", "band", "path")
    rows = run_all(vehicle_case, [(vehicle, planners[n % 3], n) for n in range(count)])
    for row in rows:
        if not row["arrived"] or not row["within"] or row["contacts"] or not row["limits"]:
            keys = ("job", "arrived", "reason", "contacts", "limits", "position", "heading")
            print("  ", *(f"{key}={row[key]}" for key in keys))
    print(f"{vehicle}: arrived {share(rows, 'arrived')}, within 0.05 m and 2 degrees {share(rows, 'within')}")
    print(f"  contacts {sum(row['contacts'] for row in rows)}, limits kept {share(rows, 'limits')}")
    print(f"  time: median {np.median([row['time'] for row in rows]):.0f} s")


def times(count: int) -> None:
    """Print how much longer than the least time each local planner takes, with nobody about."""
    for planner in ("window", "band", "path"):
        rows = run_all(time_case, [(planner, n % SITES, n // SITES) for n in range(count)])
        over = 100.0 * np.array([row["over_bound"] for row in rows])
        print(
            f"{planner}: arrived {share(rows, 'arrived')}, over the bound: median {np.nanmedian(over):.0f} %, "
            f"9 of 10 under {np.nanquantile(over, 0.9):.0f} %"
        )


def people(count: int) -> None:
    """Print what came of meetings with a person who does not look."""
    for kind in ("passing", "crossing"):
        rows = run_all(people_case, [(kind, seed) for seed in range(count)])
        less = 1.0 - sum(row["intrusion"] for row in rows) / sum(row["without"] for row in rows)
        longer = sum(row["time"] for row in rows) / sum(row["without_time"] for row in rows) - 1.0
        contacts = sum(row["contacts"] for row in rows)
        print(
            f"{kind}: {count} with and without the rules: intrusion down by {100 * less:.1f} %, "
            f"time {100 * longer:+.0f} %, expected states {share(rows, 'expected')}, contacts {contacts}"
        )


def crowds(count: int) -> None:
    """Print how ways through a crowd of ten go with tracks of people, beside those without."""
    for planner in ("window", "band"):
        rows = run_all(crowd_case, [(planner, seed) for seed in range(count)])
        for row in rows:
            print(
                f"   {row['job']}: {row['time']:.0f} s and {row['turns']} turns about with tracks, "
                f"{row['without_time']:.0f} s and {row['without_turns']} without {row['reason'][:120]}"
            )
        ratio = sum(row["time"] for row in rows) / sum(row["without_time"] for row in rows)
        contacts = [sum(row[key] for row in rows) for key in ("contacts", "without_contacts")]
        print(
            f"{planner}: arrived {share(rows, 'arrived')} (without tracks {share(rows, 'without_arrived')}), "
            f"{ratio:.2f} times as long as without, contacts {contacts[0]} ({contacts[1]})"
        )


def main() -> None:
    part, count = sys.argv[1], int(sys.argv[2]) if len(sys.argv) > 2 else 0
    if part in ("window", "band", "path"):
        missions(part, count or 500)
    elif part == "faults":
        faults(count or 300)
    elif part == "aisles":
        aisles(count or 10)
    elif part == "times":
        times(count or 50)
    elif part in ("tug", "forklift"):
        vehicles(part, count or 100)
    elif part == "crowds":
        crowds(count or 10)
    else:
        people(count or 50)


if __name__ == "__main__":
    main()
