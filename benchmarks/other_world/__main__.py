"""Run with ``python -m benchmarks.other_world PART [COUNT] [JOBS]``: missions and runs there, judged by what is so.

Parts: missions, faults (something goes wrong on the way), walkers (one comes the robot's way), and of recorded runs
fusion, mapping, rooms (mapping where walls are thin and stamps scatter), localization, starts (from anywhere, COUNT
with each robot), gaps (the scanner shows nothing for a while), checks (whether `check` names what is wrong with them),
spoilt (what that costs the fused track, and whether it is told) and hour (COUNT laps of one hall, 11 in an hour).
"""

from __future__ import annotations

import sys
from concurrent.futures import ProcessPoolExecutor
from functools import partial

import numpy as np
from numpy.typing import NDArray

from benchmarks.other_world import (
    check_campaign,
    gap_campaign,
    hour_campaign,
    record_campaign,
    spoilt_campaign,
    starts_campaign,
)
from benchmarks.other_world.faults import FAULTS, barrier, fault_of
from benchmarks.other_world.mission import Outcome, draw_mission, drive, map_of
from benchmarks.other_world.robots import BODIES, draw_robot
from benchmarks.other_world.sites import SITES
from vinecompass import Navigator

CAMPAIGNS = {
    "starts": starts_campaign.campaign,
    "gaps": gap_campaign.campaign,
    "checks": check_campaign.campaign,
    "spoilt": spoilt_campaign.campaign,
}
COUNTS = {
    **dict.fromkeys(record_campaign.PARTS, 20),
    "rooms": 8,
    "starts": 50,
    "gaps": 20,
    "checks": len(check_campaign.RUNS),
    "spoilt": 2,
    "hour": 11,
}
"""How many each part tries, if it is not said; of missions, faults and walkers 28."""
WALKS, SETS_OUT = 0.8, 4.0
"""m/s that a walker goes, and seconds after the robot."""


def one(number: int, fault: str = "", *, walks: bool = False) -> tuple[str, Outcome]:
    """Drive one mission of the campaign, with a fault if one is named, or with one who walks straight at its start."""
    rng = np.random.default_rng(number)
    kinds, places = list(BODIES), list(SITES)
    kind, place = kinds[number % len(kinds)], places[(number // len(kinds)) % len(places)]
    site, robot = SITES[place](rng), draw_robot(kind, rng, tells_delay=False)
    mission = draw_mission(site, robot, rng, seed=number)
    told = mission.start + rng.normal(0.0, [0.2, 0.2, np.radians(5.0)])
    navigator = Navigator(map_of(site), robot.filed, told, mission.goal, seed=number)
    if fault in ("barrier", "silent sector"):
        barrier(mission, rng)
    spoil = fault_of(fault, mission, rng) if fault else None
    way = (mission.start - mission.goal)[:2]

    def walker(t: float) -> NDArray[np.float64]:
        """Return where one is who sets out from the goal and walks on past the start."""
        return mission.goal[:2] + max(t - SETS_OUT, 0.0) * WALKS * way / np.hypot(*way)

    outcome = drive(
        mission, navigator, time_limit=3.0 * mission.bound + 60.0, fault=spoil, walker=walker if walks else None
    )
    rates = f"loop {robot.loop_rate:.0f} Hz, scans {robot.filed.lidars[0].rate} Hz, delay {robot.delay:.2f} s"
    how = f"{number:3d} {place}, {kind}, {rates}" + (f", {fault}" if fault else "")
    return how, outcome


def main() -> None:
    """Drive the missions and say what came of them."""
    part = sys.argv[1] if len(sys.argv) > 1 else "missions"
    count = int(sys.argv[2]) if len(sys.argv) > 2 else COUNTS.get(part, 28)
    jobs = int(sys.argv[3]) if len(sys.argv) > 3 else None
    if part in record_campaign.PARTS:
        record_campaign.campaign(part, count, jobs)
        return
    if part in CAMPAIGNS:
        CAMPAIGNS[part](count, jobs)
        return
    if part == "hour":
        hour_campaign.campaign(count)
        return
    faults = [FAULTS[number % len(FAULTS)] if part == "faults" else "" for number in range(count)]
    outcomes = []
    with ProcessPoolExecutor(jobs) as pool:
        for how, o in pool.map(partial(one, walks=part == "walkers"), range(count), faults):
            outcomes.append(o)
            met = "" if o.struck is None else f", walker met at {o.struck:.2f} m/s"
            print(
                f"{how}: {o.state} after {o.seconds:.0f} s (bound {o.bound:.0f}), {o.off:.3f} m, {o.off_deg:.1f} deg, "
                f"{o.contacts} contacts, {100.0 * o.over_limits:.0f} % over limits, mute {o.silent:.0f} s{met}; "
                f"{o.reason}",
                flush=True,
            )
    arrived = [o for o in outcomes if o.state == "finished" and o.off < 0.05 and o.off_deg < 2.0]
    times = [o.seconds / o.bound for o in arrived]
    print(
        f"{len(arrived)} of {count} arrived within tolerance, {sum(o.state == 'finished' for o in outcomes)} said so; "
        f"{sum(o.contacts > 0 for o in outcomes)} with contacts; "
        f"{sum((o.struck or 0.0) > 0.1 for o in outcomes)} at more than 0.1 m/s with a walker; "
        f"{sum(o.over_limits > 1e-6 for o in outcomes)} over a limit; "
        f"median time {np.median(times) if times else np.nan:.2f} of the bound"
    )


if __name__ == "__main__":
    main()
