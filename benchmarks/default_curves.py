"""How defaults were chosen: ``python -m benchmarks.default_curves KEY`` prints the curve of one setting.

Settings of the localizer are tried on second drives, on the maps of the first, in both worlds; those of the mapper on
first drives; those of driving in made-up cellars with people about.
"""

from __future__ import annotations

import sys
import time
from concurrent.futures import ProcessPoolExecutor
from functools import cache

import numpy as np

from benchmarks.drive_sites import cellar, map_of
from benchmarks.other_world.record_campaign import place_and_run
from vinecompass import build_map, demo_file, read_robot, read_site, record_drive
from vinecompass.fusion import usual_odometry
from vinecompass.navigation import Round
from vinecompass.runs import Run
from vinecompass.settings import Settings, find_setting
from vinecompass.tuning import Case, LocalizationCase, MappingCase, MissionCase, Trial

POINTS = 7
"""Values from one end of a setting's span to the other, besides its default."""
SEEDS = 4
OTHER_WORLD = (5, 3, 12, 14, 18)
"""Runs of the second world: a ring, two clinics, a hall and a warehouse, by four robots."""
CELLARS = 4


@cache
def first_and_second(number: int) -> tuple[Run, Run]:
    """Return two drives at one place, the demo's for -1."""
    if number >= 0:
        return place_and_run(number)[1], place_and_run(number, drive=1)[1]
    site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
    ways = [site.find_route(name).points for name in ("grand tour", "press round")]
    return record_drive(site, robot, ways[0], seed=0), record_drive(site, robot, ways[1], seed=1)


@cache
def case(table: str, number: int) -> Case:
    """Return what a table's settings are tried on."""
    if table == "mapping":
        first, _ = first_and_second(number)
        return MappingCase((first,), (usual_odometry(first),), Settings())
    if table == "localization":
        first, second = first_and_second(number)
        return LocalizationCase(build_map(first).grid, (second,), (usual_odometry(second),), Settings())
    site = cellar(number)
    settings = Settings.model_validate({"following": {"planner": table}} if table == "band" else {})
    robot = read_robot(demo_file("robot.toml"))
    the_round = Round.to_pose(site.stops[number % len(site.stops)].site_pose)
    return MissionCase(site, robot, map_of(site), the_round, settings, time_limit=120.0)


def tried(given: tuple[str, int, list[float]]) -> list[tuple[float, float, float]]:
    """Return value, cost and seconds of each trial of a setting in one case."""
    key, number, values = given
    table = key.split(".")[0]
    here, rows = case(table, number), []
    bound = here.bound()
    for value in values:
        for seed in range(1 if table == "mapping" else SEEDS):
            begun = time.perf_counter()
            cost = here.run(Trial(0, seed, {key: value}), bound).cost
            rows.append((value, cost, time.perf_counter() - begun))
    return rows


def main() -> None:
    for key in sys.argv[1:]:
        setting = find_setting(key)
        span = setting.span
        spaced = np.geomspace if span.logarithmic else np.linspace
        values = sorted({setting.default, *spaced(span.low, span.high, POINTS)})
        values = sorted({round(value) for value in values}) if setting.whole else values
        cases = range(CELLARS) if key.split(".")[0] not in ("localization", "mapping") else (-1, *OTHER_WORLD)
        with ProcessPoolExecutor(2) as pool:
            rows = np.array(list(pool.map(tried, [(key, number, values) for number in cases])))
        print(f"{key}: mean cost beside the default's, by case; mean; worst case; time")
        default = {k: rows[k][rows[k][:, 0] == setting.default, 1].mean() for k in range(len(cases))}
        for value in values:
            costs = np.array([each[each[:, 0] == value, 1].mean() for each in rows])
            seconds = np.mean([each[each[:, 0] == value, 2].mean() for each in rows])
            beside = " ".join(f"{cost - default[k]:+.4f}" for k, cost in enumerate(costs))
            print(
                f"  {value:10.4g}  {beside}  mean {costs.mean():.4f} worst {costs.max():.4f}  {seconds:.2f} s",
                flush=True,
            )


if __name__ == "__main__":
    main()
