"""Rapidly exploring random trees: RRT and RRT-Connect, for any motion."""

from __future__ import annotations

import numpy as np
from numpy.typing import NDArray

from vinecompass.planning.problem import Problem, Way
from vinecompass.planning.trees.sampling import Clock, EdgeCheck, OpenFloor, made_short
from vinecompass.settings import PlanSettings

__all__ = ["rrt", "rrt_connect"]

FloatArray = NDArray[np.float64]
NEAREST_COMPARED = 12
"""Nodes nearest as the crow flies, among which the one with the shortest motion is looked for."""


class Tree:
    """Nodes ``(n, 3)``, what it costs to reach each, and over which other."""

    def __init__(self, root: FloatArray, most: int) -> None:
        self.poses = np.empty((most + 2, 3))
        self.costs = np.zeros(most + 2)
        self.parents = np.zeros(most + 2, np.int64)
        self.poses[0] = root
        self.parents[0] = -1
        self.size = 1

    def add(self, pose: FloatArray, parent: int, cost: float) -> int:
        """Add a node reached over another at a cost from the root; return its number."""
        node = self.size
        self.size = self.size + 1
        self.poses[node], self.parents[node], self.costs[node] = pose, parent, cost
        return node

    def nearest(self, pose: FloatArray, count: int) -> NDArray[np.int64]:
        """Return the nodes nearest to a pose as the crow flies, the nearest first."""
        away = np.hypot(self.poses[: self.size, 0] - pose[0], self.poses[: self.size, 1] - pose[1])
        if count == 1:
            return np.array([int(np.argmin(away))])
        nodes = np.argpartition(away, count)[:count] if count < self.size else np.arange(self.size)
        return nodes[np.argsort(away[nodes], kind="stable")]

    def branch(self, node: int) -> FloatArray:
        """Return the nodes from the root to a node."""
        path = [node]
        while self.parents[path[-1]] >= 0:
            path.append(int(self.parents[path[-1]]))
        return self.poses[path[::-1]]

    @property
    def edges(self) -> FloatArray:
        """Its edges ``(n - 1, 2, 2)``."""
        return np.stack([self.poses[1 : self.size, :2], self.poses[self.parents[1 : self.size], :2]], axis=1)


def rrt(problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> Way:
    """Grow a tree from the start until it reaches the goal (LaValle, 1998)."""
    floor, edges, clock = OpenFloor(problem, rng), EdgeCheck(problem, settings), Clock(settings)
    tree = Tree(problem.start_pose, settings.iterations)
    while clock.draw(1):
        aim_at_goal = rng.random() < settings.goal_share
        sample = problem.goal_pose if aim_at_goal else floor.draw(1)[0]
        near = _shortest(tree, edges, sample)
        pose, price = edges.towards(tree.poses[near], sample)
        if not np.isfinite(price):
            continue
        node = tree.add(pose, near, tree.costs[near] + price)
        direct = edges.lengths(pose[None], problem.goal_pose[None])[0] <= edges.longest
        if direct and np.isfinite(edges.price(pose, problem.goal_pose)):
            return _way(problem, settings, np.vstack([tree.branch(node), problem.goal_pose]), [tree], clock)
    return _way(problem, settings, np.zeros((0, 3)), [tree], clock)


def rrt_connect(problem: Problem, settings: PlanSettings, rng: np.random.Generator) -> Way:
    """Grow trees from start and goal towards each other (Kuffner and LaValle, 2000)."""
    floor, edges, clock = OpenFloor(problem, rng), EdgeCheck(problem, settings), Clock(settings)
    most = 16 * settings.iterations
    trees = [Tree(problem.start_pose, most), Tree(problem.goal_pose, most)]
    turn = 0
    while clock.draw(1):
        tree, other = trees[turn], trees[1 - turn]
        node = _grow(tree, edges, floor.draw(1)[0], backwards=turn == 1)
        if node is not None:
            reached = _connect(other, edges, tree.poses[node], backwards=turn == 0)
            if reached is not None:
                here, there = tree.branch(node), other.branch(reached)
                nodes = np.vstack([here, there[::-1][1:]]) if turn == 0 else np.vstack([there, here[::-1][1:]])
                return _way(problem, settings, nodes, trees, clock)
        turn = 1 - turn
    return _way(problem, settings, np.zeros((0, 3)), trees, clock)


def _grow(tree: Tree, edges: EdgeCheck, sample: FloatArray, *, backwards: bool) -> int | None:
    near = _shortest(tree, edges, sample, backwards=backwards)
    pose, price = edges.towards(tree.poses[near], sample, backwards=backwards)
    return tree.add(pose, near, tree.costs[near] + price) if np.isfinite(price) else None


def _connect(tree: Tree, edges: EdgeCheck, goal: FloatArray, *, backwards: bool) -> int | None:
    """Go on towards a pose, edge by edge, until it is reached or something is in the way."""
    node = _shortest(tree, edges, goal, backwards=backwards)
    while tree.size < len(tree.costs) - 1:
        pose, price = edges.towards(tree.poses[node], goal, backwards=backwards)
        if not np.isfinite(price):
            return None
        node = tree.add(pose, node, tree.costs[node] + price)
        if np.hypot(*(pose[:2] - goal[:2])) < 1e-9:
            tree.poses[node] = goal
            return node
    return None


def _shortest(tree: Tree, edges: EdgeCheck, pose: FloatArray, *, backwards: bool = False) -> int:
    """Return the node with the shortest motion to a pose (or from it), among those nearest as the crow flies."""
    nodes = tree.nearest(pose, min(NEAREST_COMPARED, tree.size))
    lengths = edges.lengths(*((pose[None], tree.poses[nodes]) if backwards else (tree.poses[nodes], pose[None])))
    return int(nodes[int(np.argmin(lengths))])


def _way(problem: Problem, settings: PlanSettings, nodes: FloatArray, trees: list[Tree], clock: Clock) -> Way:
    poses = made_short(problem, settings, nodes) if len(nodes) else nodes
    return Way(
        poses, sum(tree.size for tree in trees), clock.iterations, tree=np.concatenate([tree.edges for tree in trees])
    )
