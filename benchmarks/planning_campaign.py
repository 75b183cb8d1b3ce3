"""Run with ``python -m benchmarks.planning_campaign [PART …]``: whether planners keep their promises, over many cases.

Parts: any-angle, curves, trees, growth; all of them if none is named.
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
from vinecompass import demo_file, plan_path, price_floor, read_robot, read_site
from vinecompass.planning import DubinsMotion, ReedsSheppMotion, find_any_angle_path, find_grid_path
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


PARTS: dict[str, Callable[[], None]] = {
    "any-angle": any_angle,
    "curves": curves,
    "trees": trees,
    "growth": growth,
}


def main() -> None:
    for name in sys.argv[1:] or PARTS:
        PARTS[name]()


if __name__ == "__main__":
    main()
