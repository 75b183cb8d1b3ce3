"""Run with ``python -m benchmarks.planning_campaign [PART …]``: whether planners keep their promises, over many cases.

Parts: any-angle, curves, trees, growth, cars; all of them if none is named.
"""

from __future__ import annotations

import sys
import time
from collections.abc import Callable

import numpy as np

from benchmarks.curve_search import dubins_words, reeds_shepp_words, shortest_length
from benchmarks.localization_runs import demo_map
from benchmarks.planning_cases import minimum_cost, priced_building
from benchmarks.planning_yardsticks import scattered_rooms, visibility_length
from vinecompass import Grid, demo_file, plan_path, price_floor, read_robot, read_site
from vinecompass.planning import DubinsMotion, Plan, ReedsSheppMotion, find_any_angle_path, find_grid_path
from vinecompass.settings import PlanSettings


def any_angle(maps: int = 50, side: int = 150) -> None:
    """Lengths beside the visibility graph's optimum over the same raster's obstacles."""
    rng = np.random.default_rng(3)
    excess: list[float] = []
    while len(excess) < maps:
        closed = scattered_rooms(rng, side)
        start, goal = ((int(row), int(column)) for row, column in rng.permutation(np.argwhere(~closed))[:2])
        optimum = visibility_length(closed, start, goal)
        if side / 3 < optimum < np.inf:
            excess.append(find_any_angle_path(np.where(closed, np.inf, 1.0), start, goal).cost / optimum - 1.0)
    told = 100.0 * np.array(excess)
    print(
        f"any-angle on {maps} maps of {side} x {side}: median {np.median(told):.4f} %, "
        f"90 % below {np.quantile(told, 0.9):.3f} %, worst {told.max():.3f} % over the visibility graph's optimum"
    )


def curves(pairs: int = 10_000) -> None:
    """Lengths beside Newton's method, from many first guesses for every word."""
    rng = np.random.default_rng(1)
    goals = np.column_stack([rng.uniform(-6.0, 6.0, (pairs, 2)), rng.uniform(-np.pi, np.pi, pairs)])
    for name, motion, words, guesses, forward in (
        ("Dubins", DubinsMotion(1.0), dubins_words(), rng.uniform(0.0, 6.2, (40, 3)), True),
        ("Reeds-Shepp", ReedsSheppMotion(1.0), reeds_shepp_words(), rng.uniform(-3.0, 3.0, (40, 3)), False),
    ):
        ours = motion.lengths(np.zeros(3), goals)
        found = np.array([shortest_length(goal, words, guesses, forward=forward) for goal in goals])
        print(
            f"{name}, {pairs} pairs: at most {max((ours - found).max(), 0.0):.1e} longer than found numerically; "
            f"longer found numerically {np.sum(found - ours > 1e-6)} times, by {max((found - ours).max(), 0.0):.1e}"
        )


def trees(seeds: int = 10, problems: int = 100) -> None:
    """RRT* in two seconds beside the best of all planners; RRT-Connect on many problems."""
    site, robot = read_site(demo_file("site.toml")), read_robot(demo_file("robot.toml"))
    costmap = price_floor(demo_map(), robot, zones=site.zones)
    start, goal = site.start_pose, site.find_stop("rack 4").site_pose
    settings = PlanSettings(iterations=1_000_000, time_limit=2.0)
    plans = {
        method: [
            plan_path(costmap, robot, start, goal, method=method, settings=settings, seed=seed) for seed in range(seeds)
        ]
        for method in ("rrt-star", "informed-rrt-star")
    }
    lines = plan_path(costmap, robot, start, goal, method="any-angle").cost
    optimum = min(lines, *(plan.cost for some in plans.values() for plan in some if plan.found))
    for method, some in plans.items():
        excess = [100.0 * (plan.cost / optimum - 1.0) if plan.found else np.inf for plan in some]
        print(
            f"{method} in 2 s, {seeds} seeds: {min(excess):.2f} to {max(excess):.2f} % over the cheapest found by any "
            f"({optimum:.2f} m; any-angle {lines:.2f} m)"
        )
    rng = np.random.default_rng(0)
    open_points = costmap.grid.points_of(np.argwhere(costmap.clearance > robot.body.outer_radius + 0.1))
    found, times = 0, []
    for seed in range(problems):
        a, b = (np.array([*open_points[i], rng.uniform(-3.0, 3.0)]) for i in rng.integers(0, len(open_points), 2))
        plan = plan_path(costmap, robot, a, b, method="rrt-connect", seed=seed)
        found += plan.found or plan.status == "no way"
        times.append(plan.duration)
    print(
        f"rrt-connect: {found} of {problems} problems solved, median {1000.0 * np.median(times):.0f} ms, "
        f"at most {1000.0 * max(times):.0f} ms"
    )


def growth() -> None:
    """A* from 500 to 8000 cells a side, beside scikit-image's minimum-cost path, once each."""
    for side in (500, 1000, 2000, 4000, 8000):
        prices, start, goal = priced_building(side)
        find_grid_path(prices, start, goal)
        begun = time.perf_counter()
        path = find_grid_path(prices, start, goal)
        took = time.perf_counter() - begun
        theirs = np.where(np.isinf(prices), -1.0, prices).astype(np.float64)
        begun = time.perf_counter()
        optimum = minimum_cost(theirs, start, goal)
        other = time.perf_counter() - begun
        print(
            f"A*, {side} x {side}: {1000.0 * took:.0f} ms, {path.expanded} cells expanded, {other / took:.1f} times "
            f"as fast as MCP_Geometric, cost {100.0 * (path.cost / optimum - 1.0):+.5f} %",
            flush=True,
        )


def cars(rooms: int = 60) -> None:
    """The demo's forklift in rooms of 14 m by 9 m with boxes: its lattice, beside A* over the cells of the same floor.

    Metres in reverse are priced as the loop prices them.
    """
    car, rng = read_robot(demo_file("forklift.toml")), np.random.default_rng(4)
    settings = PlanSettings(reverse_price=2.5)
    plans: list[Plan] = []
    cells: list[float] = []
    while len(plans) < rooms:
        log_odds = np.full((180, 280), 3.0, np.float32)
        log_odds[1:-1, 1:-1] = -3.0
        for _ in range(int(rng.integers(3, 9))):
            (row, column), (height, width) = rng.integers(10, (160, 260)), rng.integers(4, 40, 2)
            log_odds[row : row + height, column : column + width] = 3.0
        floor = price_floor(Grid(log_odds, 0.05), car)
        start, goal = rng.uniform([1.0, 1.0, -np.pi], [13.0, 8.0, np.pi], (2, 3))
        plan = plan_path(floor, car, start, goal, method="lattice", settings=settings, explain=False)
        if not plan.status.endswith("closed"):
            plans.append(plan)
            begun = time.perf_counter()
            find_grid_path(floor.prices, *(tuple(floor.grid.cells_at([pose[:2]])[0]) for pose in (start, goal)))
            cells.append(time.perf_counter() - begun)
    # The first one compiles.
    times, expanded = np.array([plan.duration for plan in plans[1:]]), [plan.expanded for plan in plans[1:]]
    print(
        f"a car's lattice in {rooms} rooms: {sum(plan.found for plan in plans)} found, median "
        f"{1e3 * np.median(times):.0f} ms ({np.median(times / cells[1:]):.1f} times A* over cells), mean "
        f"{1e3 * times.mean():.0f} ms, at most {1e3 * times.max():.0f} ms; {np.median(expanded):.0f} nodes, "
        f"at most {max(expanded)}"
    )


PARTS: dict[str, Callable[[], None]] = {
    "any-angle": any_angle,
    "curves": curves,
    "trees": trees,
    "growth": growth,
    "cars": cars,
}


def main() -> None:
    for name in sys.argv[1:] or PARTS:
        PARTS[name]()


if __name__ == "__main__":
    main()
