"""Costmaps and planners beside their yardsticks."""

from __future__ import annotations

import time
from collections.abc import Callable, Iterator
from functools import partial
from itertools import pairwise
from typing import Any

import numpy as np
from numpy.typing import NDArray
from scipy import ndimage, sparse
from scipy.sparse import csgraph
from skimage.graph import MCP_Geometric

from benchmarks.localization_runs import demo_map, demo_run
from benchmarks.measuring import measured
from vinecompass import demo_file, read_site
from vinecompass.costs import CostMap, LiveCosts, price_floor
from vinecompass.costs.kernels import NO_WAYS, line_price
from vinecompass.grids import Grid, clearance
from vinecompass.odometry import odometry_track, straightened_beams, swept_scans
from vinecompass.planning import (
    CostToGo,
    DubinsMotion,
    GridPath,
    PreparedFloor,
    ReedsSheppMotion,
    find_grid_path,
    plan_path,
)
from vinecompass.planning.search.smoothing import shorten

FloatArray = NDArray[np.float64]
Cells = tuple[int, int]


def building(side: int, seed: int) -> NDArray[np.bool_]:
    """Return a made-up building as occupied cells: eight by eight rooms, a door in every wall, and furniture."""
    rng = np.random.default_rng(seed)
    occupied = np.zeros((side, side), dtype=bool)
    room, door = side // 8, max(side // 48, 14)
    for wall in range(0, side, room):
        occupied[max(wall - 1, 0) : wall + 2, :] = occupied[:, max(wall - 1, 0) : wall + 2] = True
    occupied[-2:, :] = occupied[:, -2:] = True
    for wall in range(room, side - 5, room):
        for begin in range(0, side - room + 1, room):
            for across in (True, False):
                place = begin + int(rng.integers(room // 5, 4 * room // 5))
                cells = (slice(wall - 1, wall + 2), slice(place - door // 2, place + door // 2))
                occupied[cells if across else cells[::-1]] = False
    for _ in range(60):
        row, column = rng.integers(5, side - side // 20 - 5, 2)
        occupied[row : row + side // 60, column : column + side // 20] = True
    return occupied


def priced_building(side: int, *, plain: bool = False) -> tuple[NDArray[np.float32], Cells, Cells]:
    """Return the prices of a building for a body of six cells' radius, and the corners farthest apart in it."""
    distance = clearance(building(side, seed=0), 1.0)
    closed = distance < 6.0
    free = np.argwhere(~closed)
    start, goal = ((int(row), int(column)) for row, column in free[[free.sum(1).argmin(), free.sum(1).argmax()]])
    prices = np.ones_like(distance) if plain else 1.0 + 5.0 * np.clip((20.0 - distance) / 14.0, 0.0, 1.0) ** 2
    return np.where(closed, np.inf, prices).astype(np.float32), start, goal


def minimum_cost(costs: FloatArray, start: Cells, goal: Cells) -> float:
    """Return scikit-image's minimum cost from start to goal; negative cells are closed."""
    return float(MCP_Geometric(costs).find_costs([start], [goal])[0][goal])


def grid_graph(prices: NDArray[np.float32]) -> sparse.csr_array:
    """Return the same steps as a sparse graph, for SciPy."""
    rows, columns = prices.shape
    number = np.arange(prices.size, dtype=np.int32).reshape(prices.shape)
    starts, ends, costs = [], [], []
    for down, right in ((0, 1), (1, 0), (1, 1), (1, -1)):
        here = np.s_[0 : rows - down, max(0, -right) : columns - max(0, right)]
        there = np.s_[down:rows, max(0, right) : columns - max(0, -right)]
        cost = 0.5 * np.hypot(down, right) * (prices[here].astype(float) + prices[there])
        if down and right:
            beside = np.s_[0 : rows - down, max(0, right) : columns - max(0, -right)]
            below = np.s_[down:rows, max(0, -right) : columns - max(0, right)]
            cost[np.isinf(prices[beside]) | np.isinf(prices[below])] = np.inf
        fine = np.isfinite(cost)
        starts.append(number[here][fine])
        ends.append(number[there][fine])
        costs.append(cost[fine])
    a, b, cost = np.concatenate(starts), np.concatenate(ends), np.concatenate(costs)
    graph = sparse.coo_array((np.tile(cost, 2), (np.concatenate([a, b]), np.concatenate([b, a]))), (prices.size,) * 2)
    return graph.tocsr()


def search_cases() -> Iterator[dict[str, Any]]:
    """A* against scikit-image's minimum-cost path, and against SciPy's Dijkstra over the same steps."""
    for side in (1000, 2000):
        for kind in ("plain", "priced"):
            ours, start, goal = priced_building(side, plain=kind == "plain")
            theirs = np.where(np.isinf(ours), -1.0, ours).astype(np.float64)
            path = find_grid_path(ours, start, goal)
            cost = minimum_cost(theirs, start, goal)
            corners = shorten(ours, path.points, NO_WAYS)
            short = sum(line_price(ours, NO_WAYS, *a, *b) for a, b in pairwise(corners))
            yield measured(
                f"A* on a {kind} building, {side} x {side}",
                "scikit-image MCP_Geometric",
                partial(find_grid_path, ours, start, goal),
                partial(minimum_cost, theirs, start, goal),
                f"cost {100.0 * (path.cost / cost - 1.0):+.5f} %, shortened {100.0 * (short / cost - 1.0):+.2f} %, "
                f"{path.expanded} cells expanded",
            )
    graph, first, last = grid_graph(ours), start[0] * side + start[1], goal[0] * side + goal[1]

    def dijkstra() -> float:
        return float(csgraph.dijkstra(graph, directed=True, indices=[first])[0, last])

    optimum = dijkstra()
    yield measured(
        "A* on a priced building, 2000 x 2000",
        "SciPy sparse Dijkstra, graph given",
        partial(find_grid_path, ours, start, goal),
        dijkstra,
        f"cost {100.0 * (path.cost / optimum - 1.0):+.7f} %",
        rounds=3,
    )


def prepared_case() -> dict[str, Any]:
    """Forty queries from anywhere to anywhere on a floor that is prepared, against A* on it as it is."""
    prices, _, _ = priced_building(2000)
    grid, shut = Grid(np.zeros(prices.shape, np.float32), 0.05), np.isinf(prices)
    costmap = CostMap(grid, prices, shut, prices, {})
    PreparedFloor(costmap)
    begun = time.perf_counter()
    floor = PreparedFloor(costmap)
    took = time.perf_counter() - begun
    rng, cells, times, most = np.random.default_rng(0), np.argwhere(~shut), np.zeros((40, 2)), 0.0
    for row in times:
        start, goal = (tuple(int(place) for place in cell) for cell in cells[rng.integers(len(cells), size=2)])
        paths = []
        finds: tuple[Callable[..., GridPath], ...] = (floor.path, partial(find_grid_path, prices))
        for column, find in enumerate(finds):
            begun = time.perf_counter()
            paths.append(find(start, goal))
            row[column] = 1000.0 * (time.perf_counter() - begun)
        most = max(most, abs(paths[0].cost / paths[1].cost - 1.0))
    mine, other = np.median(times, axis=0)
    return {
        "work": "a query on a prepared floor, 2000 x 2000",
        "yardstick": "A* on it as it is",
        "ours_ms": float(mine),
        "yardstick_ms": float(other),
        "ratio": float(np.median(times[:, 1] / times[:, 0])),
        "note": f"prepared in {took:.2f} s; {times[:, 0].max():.0f} ms at most; costs equal to {most:.0e}",
    }


def replanning_case() -> dict[str, Any]:
    """A drive through the building that finds something in the way now and then, against planning anew each time."""
    prices, start, goal = priced_building(2000)
    field = CostToGo(prices, goal)
    way = field.plan(start).cells
    mended, anew, most, ratios = 0.0, 0.0, 0.0, []
    for at in range(0, len(way) - 400, 200):
        here, ahead = (int(way[at, 0]), int(way[at, 1])), way[at + 20]
        low = np.clip(ahead - 30, 0, np.array(prices.shape) - 60)
        window = field.prices[low[0] : low[0] + 60, low[1] : low[1] + 60].copy()
        window = np.where(window < 3.0, 1.5 * window, window)
        window[20:40, 25:35] = np.inf
        begun = time.perf_counter()
        field.change((int(low[0]), int(low[1])), window)
        mine = field.plan(here)
        between = time.perf_counter()
        other = find_grid_path(field.prices, here, goal)
        took = time.perf_counter() - between
        ratios.append(took / (between - begun))
        mended, anew = mended + between - begun, anew + took
        most = max(most, abs(mine.cost / other.cost - 1.0)) if np.isfinite(other.cost) else most
    count = len(ratios)
    return {
        "work": "replanning after a changed window, 2000 x 2000",
        "yardstick": "A* anew",
        "ours_ms": 1000.0 * mended / count,
        "yardstick_ms": 1000.0 * anew / count,
        "ratio": anew / mended,
        "note": f"{count} times along the way, each {min(ratios):.1f} to {max(ratios):.1f}x; costs equal to {most:.0e}",
    }


def clearance_case() -> dict[str, Any]:
    """Clearance against SciPy's exact Euclidean distance transform."""
    occupied = building(2000, seed=1)
    most = np.abs(clearance(occupied, 1.0) - ndimage.distance_transform_edt(~occupied)).max()
    return measured(
        "clearance, 2000 x 2000",
        "SciPy distance_transform_edt",
        lambda: clearance(occupied, 1.0),
        lambda: ndimage.distance_transform_edt(~occupied),
        f"largest difference {most:.1e} cells",
    )


def pricing_case(grid: Grid) -> dict[str, Any]:
    """One scan's re-pricing on the demo site, against pricing the whole floor with the same obstacles."""
    run = demo_run(7)
    site, robot, truth = read_site(demo_file("site.toml")), run.robot, run.truth
    assert truth is not None
    live = LiveCosts(grid, robot, zones=site.zones)
    times, priced, whole = [], [], []
    for number, (scan, motion) in enumerate(swept_scans(run, odometry_track(run))):
        beams = straightened_beams(scan.ranges, robot.scanner, motion.sweep, clear_reach=6.0)
        pose = truth.at([scan.t])[0]
        begun = time.perf_counter()
        rows, _ = live.see(scan.t, pose, beams)
        times.append(time.perf_counter() - begun)
        if rows.stop > rows.start:
            priced.append(times[-1])
        if number % 200 == 0:
            begun = time.perf_counter()
            price_floor(grid, robot, zones=site.zones, obstacles=live.obstacles)
            whole.append(time.perf_counter() - begun)
    mine, other = 1000.0 * float(np.median(priced)), 1000.0 * float(np.median(whole))
    return {
        "work": "one scan's re-pricing, demo site",
        "yardstick": "price_floor",
        "ours_ms": mine,
        "yardstick_ms": other,
        "ratio": other / mine,
        "note": f"median of {len(priced)} scans that changed something, 95 % under "
        f"{1000.0 * np.quantile(priced, 0.95):.2f} ms; of all {len(times)} {1000.0 * np.median(times):.2f} ms",
    }


def straight_distances(starts: FloatArray, goals: FloatArray) -> FloatArray:
    """Return the distances between poses, by NumPy."""
    return np.asarray(np.hypot(*(goals - starts)[:, :2].T))


def curve_cases() -> Iterator[dict[str, Any]]:
    """Shortest curves, a million pairs of poses, against NumPy's time for the same pairs' distances."""
    rng = np.random.default_rng(5)
    for name, motion, count in (
        ("Dubins", DubinsMotion(1.0), 1_000_000),
        ("Reeds-Shepp", ReedsSheppMotion(1.0), 300_000),
    ):
        starts, goals = (
            np.column_stack([rng.uniform(-5.0, 5.0, (count, 2)), rng.uniform(-np.pi, np.pi, count)]) for _ in range(2)
        )
        case = measured(
            f"{name} lengths, {count} pairs",
            "NumPy hypot of the same pairs",
            partial(motion.lengths, starts, goals),
            partial(straight_distances, starts, goals),
            "",
        )
        case["note"] = f"{count / case['ours_ms'] / 1000.0:.2f} million pairs a second"
        yield case


def planner_cases(grid: Grid) -> Iterator[dict[str, Any]]:
    """Whole plans on the demo site, against A*."""
    site, robot = read_site(demo_file("site.toml")), demo_run(7).robot
    costmap = price_floor(grid, robot, zones=site.zones)
    start, goal = site.start_pose, site.find_stop("rack 4").site_pose

    def plan(method: str) -> Callable[[], Any]:
        return lambda: plan_path(costmap, robot, start, goal, method=method)

    for method in ("dijkstra", "any-angle", "lattice", "rrt-connect"):
        found = plan(method)()
        yield measured(
            f"{method} on the demo site, whole plan",
            "a-star, whole plan",
            plan(method),
            plan("a-star"),
            f"cost {found.cost:.2f} m",
        )


def planning_cases() -> Iterator[dict[str, Any]]:
    """Measure all of them."""
    yield from search_cases()
    yield prepared_case()
    yield replanning_case()
    yield clearance_case()
    yield from curve_cases()
    grid = demo_map()
    yield pricing_case(grid)
    yield from planner_cases(grid)
