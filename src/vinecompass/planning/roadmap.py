"""A probabilistic roadmap: made once, asked many times."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.sparse import csgraph, csr_array
from scipy.spatial import KDTree

from vinecompass.planning.problem import PlanSettings, Problem, Way
from vinecompass.planning.sampling import EdgeCheck, OpenFloor, made_short

__all__ = ["Roadmap", "roadmap"]

FloatArray = NDArray[np.float64]


class Roadmap:
    """Nodes drawn evenly from the open floor, each joined to its neighbours where the body can drive.

    Parameters
    ----------
    problem : Problem
        Whose floor, robot and motion it is for; start and goal are asked each time.
    settings : PlanSettings
    rng : numpy.random.Generator

    Notes
    -----
    Kavraki, Svestka, Latombe and Overmars (1996).
    """

    def __init__(self, problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> None:
        self._problem, self._settings = problem, settings
        self._edges = EdgeCheck(problem, settings)
        floor = OpenFloor(problem, rng)
        self.nodes = floor.draw(settings.roadmap_nodes)
        self._tree = KDTree(self.nodes[:, :2])
        same_both_ways = problem.turns_on_the_spot and problem.costmap.one_way is None
        starts, ends, prices = [], [], []
        for node, pose in enumerate(self.nodes):
            for other in self._neighbours(pose, node):
                if same_both_ways and other < node:
                    continue
                for a, b in ((node, other),) if same_both_ways else ((node, other), (other, node)):
                    price = self._price(self.nodes[a], self.nodes[b])
                    if np.isfinite(price):
                        starts.append(a)
                        ends.append(b)
                        prices.append(price)
        if same_both_ways:
            starts, ends, prices = starts + ends, ends + starts, 2 * prices
        unique = {(a, b): price for a, b, price in zip(starts, ends, prices, strict=True)}
        self._joined = np.array(list(unique), dtype=np.int64).reshape(-1, 2)
        self._prices = np.array(list(unique.values()))

    def plan(self, start: ArrayLike, goal: ArrayLike) -> Way:
        """Return the cheapest way over the roadmap between two poses ``(3,)`` in the site frame."""
        problem = replace(self._problem, start=start, goal=goal)
        count = len(self.nodes)
        poses = np.vstack([self.nodes, problem.start_pose, problem.goal_pose])
        extra = [(count, node, self._price(problem.start_pose, self.nodes[node]))
                 for node in self._neighbours(problem.start_pose)]  # fmt: skip
        extra += [(node, count + 1, self._price(self.nodes[node], problem.goal_pose))
                  for node in self._neighbours(problem.goal_pose)]  # fmt: skip
        extra.append((count, count + 1, self._price(problem.start_pose, problem.goal_pose)))
        extra = [edge for edge in extra if np.isfinite(edge[2])]
        joined = np.vstack([self._joined, np.array([edge[:2] for edge in extra], dtype=np.int64).reshape(-1, 2)])
        prices = np.concatenate([self._prices, [edge[2] for edge in extra]])
        graph = csr_array((prices, (joined[:, 0], joined[:, 1])), shape=(count + 2, count + 2))
        cost, before = csgraph.dijkstra(graph, directed=True, indices=[count], return_predecessors=True)
        cost, before = cost[0], before[0]
        tree = np.stack([poses[self._joined[:, 0], :2], poses[self._joined[:, 1], :2]], axis=1)
        if not np.isfinite(cost[count + 1]):
            return Way(np.zeros((0, 3)), count, count, tree=tree)
        path = [count + 1]
        while path[-1] != count:
            path.append(int(before[path[-1]]))
        return Way(made_short(problem, self._settings, poses[path[::-1]]), count, count, tree=tree)

    def _neighbours(self, pose: FloatArray, itself: int = -1) -> list[int]:
        away, nodes = self._tree.query(
            pose[:2], k=min(self._settings.roadmap_neighbours + 1, len(self.nodes)),
            distance_upper_bound=self._settings.longest_edge,
        )  # fmt: skip
        return [
            int(node)
            for node, d in zip(np.atleast_1d(nodes), np.atleast_1d(away), strict=True)
            if np.isfinite(d) and node != itself
        ]

    def _price(self, start: FloatArray, goal: FloatArray) -> float:
        if self._edges.lengths(start[None], goal[None])[0] > self._edges.longest:
            return float("inf")
        return self._edges.price(start, goal)


def roadmap(problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> Way:
    """Make a roadmap and ask it once. For many queries, keep a `Roadmap`."""
    return Roadmap(problem, settings, rng).plan(problem.start_pose, problem.goal_pose)
