"""A probabilistic roadmap: made once, asked many times."""

from __future__ import annotations

from dataclasses import replace

import numpy as np
from numpy.typing import ArrayLike, NDArray
from scipy.sparse import csgraph, csr_array
from scipy.spatial import KDTree

from vinecompass.door import checked
from vinecompass.planning.problem import Problem, Way
from vinecompass.planning.trees.sampling import EdgeCheck, OpenFloor, made_short
from vinecompass.settings import PlanSettings

__all__ = ["Roadmap", "roadmap"]

FloatArray = NDArray[np.float64]


class Roadmap:
    """Nodes drawn from the open floor, each joined to its neighbours where the body can drive.

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

    @checked
    def __init__(self, problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> None:
        self._problem = problem
        self._settings = settings
        self._edges = EdgeCheck(problem, settings)
        floor = OpenFloor(problem, rng)
        self.nodes = floor.draw(settings.roadmap_nodes)
        self._tree = KDTree(self.nodes[:, :2])
        pairs = np.array(
            sorted(
                {
                    (min(node, other), max(node, other))
                    for node, pose in enumerate(self.nodes)
                    for other in self._neighbours(pose)
                    if other != node
                }
            ),
            dtype=np.int64,
        ).reshape(-1, 2)
        there = self._edges.prices(self.nodes[pairs[:, 0]], self.nodes[pairs[:, 1]])
        same_both_ways = problem.turns_on_the_spot and problem.costmap.one_way is None
        back = there if same_both_ways else self._edges.prices(self.nodes[pairs[:, 1]], self.nodes[pairs[:, 0]])
        prices = np.concatenate([there, back])
        self._joined = np.vstack([pairs, pairs[:, ::-1]])[np.isfinite(prices)]
        self._prices = prices[np.isfinite(prices)]

    def plan(self, start: ArrayLike, goal: ArrayLike) -> Way:
        """Return the cheapest way over the roadmap between two poses ``(3,)`` in the site frame."""
        problem = replace(self._problem, start=start, goal=goal)
        count = len(self.nodes)
        poses = np.vstack([self.nodes, problem.start_pose, problem.goal_pose])
        near_start = self._neighbours(problem.start_pose)
        near_goal = self._neighbours(problem.goal_pose)
        extra = np.array(
            [(count, node) for node in near_start] + [(node, count + 1) for node in near_goal] + [(count, count + 1)]
        )
        priced = self._edges.prices(poses[extra[:, 0]], poses[extra[:, 1]])
        joined = np.vstack([self._joined, extra[np.isfinite(priced)]])
        prices = np.concatenate([self._prices, priced[np.isfinite(priced)]])
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

    def _neighbours(self, pose: FloatArray) -> list[int]:
        """Return the nodes nearest to a pose, and no farther than an edge may be long."""
        away, nodes = self._tree.query(
            pose[:2],
            k=min(self._settings.roadmap_neighbours + 1, len(self.nodes)),
            distance_upper_bound=self._settings.longest_edge,
        )
        found = zip(np.atleast_1d(nodes), np.atleast_1d(away), strict=True)
        return [int(node) for node, distance in found if np.isfinite(distance)]


def roadmap(problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> Way:
    """Make a roadmap and ask it once. For many queries, keep a `Roadmap`."""
    return Roadmap(problem, settings, rng).plan(problem.start_pose, problem.goal_pose)
