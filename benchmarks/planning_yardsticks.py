"""Independent yardsticks for planners: visibility graphs by Shapely, shortest curves by Newton's method."""

from __future__ import annotations

from typing import Any

import networkx
import numpy as np
import shapely
from numpy.typing import NDArray
from scipy import sparse
from scipy.sparse import csgraph

FloatArray = NDArray[np.float64]
Floats = NDArray[np.floating[Any]]


def scattered_rooms(rng: np.random.Generator, side: int = 60) -> NDArray[np.bool_]:
    """Return a small map as closed cells: a few walls with gaps, and boxes."""
    closed = np.zeros((side, side), bool)
    closed[[0, -1]] = closed[:, [0, -1]] = True
    for _ in range(3):
        at, gap = int(rng.integers(side // 6, side - side // 6)), int(rng.integers(4, side - 8))
        wall = closed if rng.random() < 0.5 else closed.T
        wall[at : at + 2] = True
        wall[at : at + 2, gap : gap + 6] = False
    for _ in range(8):
        row, column = rng.integers(0, side - 8, 2)
        height, width = rng.integers(2, 9, 2)
        closed[row : row + height, column : column + width] = True
    return closed


def visibility_length(closed: NDArray[np.bool_], start: tuple[int, int], goal: tuple[int, int]) -> float:
    """Return the length, in cells, of the shortest way between two cells' centres round closed cells, by Shapely.

    The obstacles are the closed cells as one geometry; the way may touch them. `inf` if there is none.
    """
    rows, columns = np.nonzero(closed)
    boxes = shapely.box(columns, rows, columns + 1, rows + 1)
    # Cells that meet at a corner are joined there: nothing passes between them.
    shape = shapely.union_all(boxes).buffer(1e-3, join_style="mitre").buffer(-1e-3, join_style="mitre")
    inner = shape.buffer(-1e-6, join_style="mitre")
    shapely.prepare(inner)
    corners = [(start[1] + 0.5, start[0] + 0.5), (goal[1] + 0.5, goal[0] + 0.5)]
    for part in shapely.get_parts(shape):
        for ring in (part.exterior, *part.interiors):
            corners += _turning_points(np.array(ring.coords[:-1]))
    points = np.array(list(dict.fromkeys(corners)))
    graph = networkx.Graph()
    for i in range(len(points)):
        others = np.arange(i + 1, len(points))
        if len(others) == 0:
            continue
        lines = shapely.linestrings(np.stack([np.broadcast_to(points[i], (len(others), 2)), points[others]], axis=1))
        for j in others[~shapely.intersects(inner, lines)]:
            graph.add_edge(i, int(j), weight=float(np.hypot(*(points[i] - points[j]))))
    try:
        return float(networkx.shortest_path_length(graph, 0, 1, weight="weight"))
    except (networkx.NetworkXNoPath, networkx.NodeNotFound):
        return float("inf")


def _turning_points(ring: FloatArray) -> list[tuple[float, float]]:
    before, after = ring - np.roll(ring, 1, axis=0), np.roll(ring, -1, axis=0) - ring
    turns = np.abs(before[:, 0] * after[:, 1] - before[:, 1] * after[:, 0]) > 1e-9
    return [(float(x), float(y)) for x, y in ring[turns]]


STEPS = [(row, column) for row in (-1, 0, 1) for column in (-1, 0, 1) if row or column]


def scipy_costs(prices: Floats, start: tuple[int, int], one_way: Floats | None = None) -> FloatArray:
    """Return the cost to every cell ``(rows, columns)`` over the steps of a grid search, by SciPy."""
    rows, columns = prices.shape
    number = np.arange(prices.size).reshape(prices.shape)
    starts, ends, costs = [], [], []
    for down, right in STEPS:
        here = np.s_[max(0, -down) : rows - max(0, down), max(0, -right) : columns - max(0, right)]
        there = np.s_[max(0, down) : rows - max(0, -down), max(0, right) : columns - max(0, -right)]
        cost = 0.5 * np.hypot(down, right) * (prices[here].astype(float) + prices[there])
        if down and right:
            beside = np.s_[here[0], there[1]]
            below = np.s_[there[0], here[1]]
            cost = np.where(np.isinf(prices[beside]) | np.isinf(prices[below]), np.inf, cost)
        if one_way is not None:
            for way in (one_way[here], one_way[there]):
                cost = np.where(np.cos(way) * right + np.sin(way) * down < -1e-6, np.inf, cost)
        fine = np.isfinite(cost)
        starts.append(number[here][fine])
        ends.append(number[there][fine])
        costs.append(cost[fine])
    joined = (np.concatenate(starts), np.concatenate(ends))
    graph = sparse.coo_array((np.concatenate(costs), joined), shape=(prices.size,) * 2).tocsr()
    return np.asarray(csgraph.dijkstra(graph, indices=number[start])).reshape(prices.shape)
